<script setup lang="ts">
// One instrument: its candles with the gaps drawn in, what is missing, and what was asked.
import { NEmpty, NRadioButton, NRadioGroup, NSelect, NSpace, useMessage } from "naive-ui";
import { computed, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import FetchTable from "../../components/FetchTable.vue";
import GapList from "../../components/GapList.vue";
import { get, type Bar, type Fetch, type Gap, type Instrument, type Series } from "../../composables/api";
import { useRefreshOn, useStatus } from "../../composables/live";
import { useMeaning } from "../../composables/meaning";
import { count, percent } from "../../composables/show";
import BarStory from "./BarStory.vue";
import CandleChart from "./CandleChart.vue";
import { rangeAround } from "./range";

const route = useRoute();
const router = useRouter();
const message = useMessage();
const meaning = useMeaning();
const { status } = useStatus();
const symbol = computed(() => String(route.params.symbol));
const at = computed(() => (route.query.at ? String(route.query.at) : undefined));

const instrument = ref<Instrument>();
const all = ref<Series[]>([]);
const bars = ref<Bar[]>([]);
const gaps = ref<Gap[]>([]);
const fetches = ref<Fetch[]>([]);
const story = ref<string>();
const named = computed(() => (route.query.series ? String(route.query.series) : undefined));
const series = computed(() => all.value.find((s) => s.name === named.value) ?? all.value.find((s) => s.interval === (route.query.interval ?? "1d")) ?? all.value[0]);
const interval = computed(() => series.value?.interval ?? "1d");
const days = computed(() => Number(route.query.days ?? (interval.value === "1d" ? 365 : 5)));
const zone = computed(() => status.value?.venues.find((v) => v.code === instrument.value?.venue)?.zone ?? "UTC");

async function load() {
  try {
    const [found, kept] = await Promise.all([get<Instrument[]>("/instruments", { q: symbol.value }), get<Series[]>("/series", { instrument: symbol.value })]);
    instrument.value = found.find((i) => i.symbol === symbol.value);
    all.value = kept;
    if (!series.value) return;
    const range = rangeAround(at.value ?? series.value.last ?? undefined, days.value, at.value !== undefined);
    const name = series.value.name;
    [bars.value, gaps.value, fetches.value] = await Promise.all([
      get<Bar[]>("/bars", { series: name, format: "json", ...range }),
      get<Gap[]>("/gaps", { series: name, cause: "any" }),
      get<Fetch[]>("/fetches", { series: name, most: 25 }),
    ]);
  } catch (error) {
    message.error((error as Error).message, { duration: 8000, closable: true });
  }
}
watch([symbol, named, at, () => route.query.interval, () => route.query.days], load, { immediate: true });
const mine = (name: string) => name === series.value?.name;
useRefreshOn((event) => event.event === "excuses" || (event.event === "fetch" && mine(event.fetch.series)), load);

const choose = (change: Record<string, string | undefined>) => router.replace({ query: { ...route.query, ...change } });
const spans = computed(() => (interval.value === "1d" ? [30, 90, 365, 1825, 4000] : [1, 5, 10, 30]).map((n) => ({ value: n, label: n >= 365 ? `${Math.round(n / 365)} years` : `${n} days` })));
const closable = computed(() => gaps.value.filter((gap) => gap.cause !== "not-yet-due"));
</script>

<template>
  <template v-if="instrument">
    <h1>
      {{ instrument.symbol }} <small :style="{ color: meaning.faint }">{{ instrument.name }} · {{ instrument.kind }} on {{ instrument.venue }}, {{ instrument.currency }}<template v-if="instrument.former.length"> · formerly {{ instrument.former.map((f) => `${f.symbol} until ${f.until}`).join(", ") }}</template><template v-if="instrument.expiry"> · expires {{ instrument.expiry }}</template><template v-if="instrument.listed"> · since {{ instrument.listed }}</template><template v-if="instrument.last_traded"> · last traded {{ instrument.last_traded }}</template></small>
    </h1>
    <n-space align="center">
      <n-radio-group :value="series?.name" size="small" @update:value="(v: string) => choose({ series: v, days: undefined, at: undefined })">
        <n-radio-button v-for="s in all" :key="s.name" :value="s.name">{{ s.name.split("/").slice(1).join(" · ") }}</n-radio-button>
      </n-radio-group>
      <n-select size="small" style="width: 110px" :value="days" :options="spans" @update:value="(v: number) => choose({ days: String(v) })" />
      <span v-if="series" :style="{ color: meaning.faint }">{{ count(series.bars) }} bars, {{ percent(series.completeness) }} complete<template v-if="series.completeness.missing">, {{ count(series.completeness.missing) }} missing</template><template v-if="series.completeness.excused">, {{ count(series.completeness.excused) }} excused</template></span>
      <a v-if="series" class="link" :href="`/api/v1/bars?series=${encodeURIComponent(series.name)}&format=csv`">CSV</a>
      <a v-if="series" class="link" :href="`/api/v1/bars?series=${encodeURIComponent(series.name)}&format=parquet`">Parquet</a>
    </n-space>
    <candle-chart v-if="bars.length || gaps.length" :bars="bars" :gaps="gaps" :zone="zone" :interval="interval" @open="(moment: string) => (story = moment)" />
    <p v-if="bars.length" :style="{ color: meaning.faint, margin: '2px 0 0' }">Click a candle for where it came from.</p>
    <bar-story v-if="story && series" :series="series.name" :at="story" :zone="zone" @close="story = undefined" />
    <n-empty v-if="!bars.length && !gaps.length" description="No bars in this range" style="margin: 40px" />
    <template v-if="closable.length">
      <h2>Missing</h2>
      <gap-list :gaps="closable" @changed="load" />
    </template>
    <h2>Asked for, newest first</h2>
    <fetch-table :fetches="fetches" :zone="zone" />
  </template>
  <n-empty v-else :description="`No instrument ${symbol}`" />
</template>

<style scoped>
h1 {
  font-size: 22px;
  margin: 0 0 10px;
}
h1 small {
  font-size: 13px;
  font-weight: 400;
}
</style>
