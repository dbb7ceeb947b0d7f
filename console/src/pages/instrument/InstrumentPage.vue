<script setup lang="ts">
// One instrument: its candles with the gaps drawn in, what is missing, and what was asked.
import { NAlert, NButton, NEmpty, NRadioButton, NRadioGroup, NSelect, NSpace } from "naive-ui";
import { computed, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import FetchTable from "../../components/FetchTable.vue";
import GapList from "../../components/GapList.vue";
import { address, get, getRows, type Actions, type Bar, type Fetch, type Gap, type Instrument, type Lineup, type Series } from "../../composables/api";
import { useRefreshOn, useStatus } from "../../composables/live";
import { useMeaning, useTheme } from "../../composables/meaning";
import { count, percent } from "../../composables/show";
import ActionDialog from "./ActionDialog.vue";
import ActionTable from "./ActionTable.vue";
import BasedLines, { type WideRow } from "./BasedLines.vue";
import BarStory from "./BarStory.vue";
import CandleChart from "./CandleChart.vue";
import LineupWords from "./LineupWords.vue";
import { rangeAround } from "./range";

const route = useRoute();
const router = useRouter();
const meaning = useMeaning();
const { dark } = useTheme();
const { status } = useStatus();
const symbol = computed(() => String(route.params.symbol));
const at = computed(() => (route.query.at ? String(route.query.at) : undefined));

const instrument = ref<Instrument>();
const unknown = ref(false);
/** Why the series cannot be shown; nothing of another one then stands in its place. */
const trouble = ref<string>();
const all = ref<Series[]>([]);
const bars = ref<Bar[]>([]);
/** The interval of these: coarser than that of the series where its bars would not fit. */
const shown = ref("1d");
/** Other instruments beside this one, and the closes of all. */
const beside = computed(() => String(route.query.beside ?? "").split(",").filter(Boolean));
const wide = ref<WideRow[]>([]);
const gaps = ref<Gap[]>([]);
const fetches = ref<Fetch[]>([]);
const story = ref<string>();
const lineup = ref<Lineup>();
const actions = ref<Actions>();
/** Whether a person enters an action. */
const entering = ref(false);
/** What was asked of the chart beside whose bars. */
const asked = ref<{ adjust?: string; from?: string; to?: string }>({});
/** For which actions the prices shown are adjusted. */
const adjust = computed(() => String(route.query.adjust ?? "none"));
const named = computed(() => (route.query.series ? String(route.query.series) : undefined));
/** A golden series for each interval and side that has several sources, before what it is made of. */
const choices = computed(() => {
  const groups = new Map<string, Series[]>();
  for (const s of all.value) {
    const group = s.name.slice(0, s.name.lastIndexOf("/"));
    groups.set(group, [...(groups.get(group) ?? []), s]);
  }
  return [...groups].flatMap(([group, own]) => (own.length > 1 ? [{ ...own[0], name: `${group}/golden`, last: own.map((s) => s.last ?? "").sort().pop() }, ...own] : own));
});
const series = computed(() => choices.value.find((s) => s.name === named.value) ?? choices.value.find((s) => s.interval === (route.query.interval ?? "1d")) ?? choices.value[0]);
const golden = computed(() => series.value?.name.endsWith("/golden") ?? false);
const completeness = computed(() => (golden.value ? lineup.value?.completeness : series.value?.completeness));
/** Whose bar a candle shows. */
const sourceOf = (moment: string) => bars.value.find((bar) => (bar.time ?? bar.date) === moment)?.source;
const told = computed(() => (golden.value && story.value ? series.value!.name.replace(/golden$/, sourceOf(story.value) ?? "golden") : series.value?.name));
const interval = computed(() => series.value?.interval ?? "1d");
const days = computed(() => Number(route.query.days ?? (interval.value === "1d" ? 365 : 5)));
const zone = computed(() => status.value?.venues.find((v) => v.code === instrument.value?.venue)?.zone ?? "UTC");

async function load() {
  try {
    const [found, kept] = await Promise.all([get<Instrument[]>("/instruments", { q: symbol.value }), get<Series[]>("/series", { instrument: symbol.value })]);
    instrument.value = found.find((i) => i.symbol === symbol.value);
    unknown.value = !instrument.value;
    all.value = kept;
    if (!series.value) return;
    const range = rangeAround(at.value ?? series.value.last ?? undefined, days.value, at.value !== undefined);
    const { name, interval } = series.value;
    const side = name.split("/").length === 4 ? name.split("/")[2] : undefined;
    const own = golden.value;
    asked.value = { adjust: adjust.value === "none" ? undefined : adjust.value, ...range };
    // A candle takes four pixels at least.
    const fit = Math.max(100, Math.floor(window.innerWidth / 4));
    const several = { instruments: [symbol.value, ...beside.value].join(","), interval, side, source: own ? undefined : name.split("/").at(-1), layout: "wide" };
    const lines = beside.value.length ? getRows<WideRow>({ ...several, ...asked.value, fit }) : undefined;
    const drawn = getRows<Bar>({ series: name, ...asked.value, fit });
    wide.value = (await lines)?.rows ?? [];
    ({ rows: bars.value, interval: shown.value } = await drawn);
    [gaps.value, fetches.value, lineup.value, actions.value] = await Promise.all([
      own ? get<Gap[]>("/gaps", { instrument: symbol.value, interval, golden: "true" }) : get<Gap[]>("/gaps", { series: name, cause: "any" }),
      own ? [] : get<Fetch[]>("/fetches", { series: name, most: 25 }),
      own ? get<Lineup>("/lineup", { instrument: symbol.value, interval, side }) : undefined,
      get<Actions>("/actions", { instrument: symbol.value }),
    ]);
    trouble.value = undefined;
  } catch (error) {
    trouble.value = (error as Error).message;
    [bars.value, wide.value, gaps.value, fetches.value, lineup.value, actions.value] = [[], [], [], [], undefined, undefined];
  }
}
watch([symbol, named, at, () => route.query.interval, () => route.query.days, () => route.query.beside, adjust], load, { immediate: true });
const mine = (name: string) => name === series.value?.name;
useRefreshOn((event) => event.event === "excuses" || (event.event === "fetch" && mine(event.fetch.series)), load);

const choose = (change: Record<string, string | undefined>) => router.replace({ query: { ...route.query, ...change } });
const spans = computed(() => (interval.value === "1d" ? [30, 90, 365, 1825, 4000] : [1, 5, 10, 30, 90, 365]).map((n) => ({ value: n, label: n >= 365 ? n < 730 ? "1 year" : `${Math.round(n / 365)} years` : n === 1 ? "1 day" : `${n} days` })));
const ways = [
  { value: "none", label: "as traded" },
  { value: "splits", label: "adjusted for splits" },
  { value: "all", label: "adjusted for all actions" },
];
const files = (format: string) => address("/api/v1/bars", { series: series.value!.name, format, adjust: asked.value.adjust });
/** The same in a picture, to be kept or sent. */
const picture = (format: string) => address("/api/v1/picture", { ...(beside.value.length ? { instruments: [symbol.value, ...beside.value].join(","), interval: interval.value } : { series: series.value!.name }), format, dark: dark.value ? "true" : undefined, ...asked.value });
/** What is said of a chart whose bars were made coarser. */
const coarser = computed(() => (shown.value && shown.value !== interval.value ? `Bars of ${shown.value}, made to fit. A shorter range shows each bar of ${interval.value}.` : undefined));
const closable = computed(() => gaps.value.filter((gap) => gap.cause !== "not-yet-due"));
</script>

<template>
  <template v-if="instrument">
    <h1>
      {{ instrument.symbol }} <small :style="{ color: meaning.faint }">{{ instrument.name }} · {{ instrument.kind }} on {{ instrument.venue }}, {{ instrument.currency }}<template v-if="instrument.former.length"> · formerly {{ instrument.former.map((f) => `${f.symbol} until ${f.until}`).join(", ") }}</template><template v-if="instrument.expiry"> · expires {{ instrument.expiry }}</template><template v-if="instrument.listed"> · since {{ instrument.listed }}</template><template v-if="instrument.last_traded"> · last traded {{ instrument.last_traded }}</template></small>
    </h1>
    <n-space align="center">
      <n-radio-group :value="series?.name" size="small" @update:value="(v: string) => choose({ series: v, days: undefined, at: undefined })">
        <n-radio-button v-for="s in choices" :key="s.name" :value="s.name">{{ s.name.split("/").slice(1).join(" · ") }}</n-radio-button>
      </n-radio-group>
      <n-select size="small" style="width: 110px" :value="days" :options="spans" @update:value="(v: number) => choose({ days: String(v) })" />
      <n-select v-if="actions?.actions.length" size="small" style="width: 230px" :value="adjust" :options="ways" @update:value="(v: string) => choose({ adjust: v === 'none' ? undefined : v })" />
      <span v-if="completeness" :style="{ color: meaning.faint }">{{ count(completeness.held) }} bars, {{ percent(completeness) }} complete<template v-if="completeness.missing">, {{ count(completeness.missing) }} missing</template><template v-if="completeness.quiet">, {{ count(completeness.quiet) }} quiet</template><template v-if="completeness.excused">, {{ count(completeness.excused) }} excused</template></span>
      <a v-if="series" class="link" :href="files('csv')">CSV</a>
      <a v-if="series" class="link" :href="files('parquet')">Parquet</a>
      <a v-if="series" class="link" :href="files('xlsx')">XLSX</a>
      <a v-if="series" class="link" :href="picture('png')" target="_blank">PNG</a>
      <a v-if="series" class="link" :href="picture('svg')" target="_blank">SVG</a>
      <n-select size="small" style="min-width: 210px; max-width: 420px" multiple filterable tag :show-arrow="false" :show="false" placeholder="beside others, as OXB" :input-props="{ name: 'beside' }" :value="beside" @update:value="(v: string[]) => choose({ beside: v.map((one) => one.trim().toUpperCase()).join(',') || undefined })" />
    </n-space>
    <based-lines v-if="wide.length" :rows="wide" :names="[symbol, ...beside]" :zone="zone" :traded="adjust === 'none'" />
    <candle-chart v-else-if="bars.length || gaps.length" :bars="bars" :gaps="gaps" :actions="actions?.actions ?? []" :zone="zone" :shown="shown || interval" :interval="interval" @open="(moment: string) => (story = coarser ? undefined : moment)" />
    <p v-if="coarser" :style="{ color: meaning.faint, margin: '2px 0 0' }">{{ coarser }}</p>
    <p v-else-if="bars.length && !wide.length" :style="{ color: meaning.faint, margin: '2px 0 0' }">Click a candle for where it came from.</p>
    <lineup-words v-if="golden && lineup" :lineup="lineup" :style="{ color: meaning.faint, margin: '6px 0 0' }" />
    <bar-story v-if="story && told" :series="told" :at="story" :zone="zone" @close="story = undefined" />
    <n-alert v-if="trouble" type="error" :title="`${series?.name ?? symbol} cannot be shown`" style="margin-top: 16px">{{ trouble }}</n-alert>
    <n-empty v-else-if="!bars.length && !gaps.length" description="No bars in this range" style="margin: 40px" />
    <template v-if="actions && (actions.actions.length + actions.events.length || !['future', 'pair'].includes(instrument?.kind ?? ''))">
      <h2>Corporate actions <n-button size="tiny" @click="entering = true">Enter one…</n-button></h2>
      <action-table v-if="actions.actions.length + actions.events.length" :told="actions" :zone="zone" @changed="load" />
      <p v-else :style="{ color: meaning.faint }">No list and nobody has told of any.</p>
      <action-dialog v-if="entering" :instrument="symbol" @close="entering = false" @done="((entering = false), load())" />
    </template>
    <template v-if="closable.length">
      <h2>Missing</h2>
      <gap-list :gaps="closable" @changed="load" />
    </template>
    <template v-if="!golden">
      <h2>Asked for, newest first</h2>
      <fetch-table :fetches="fetches" :zone="zone" />
    </template>
  </template>
  <n-empty v-else-if="unknown" :description="`No instrument ${symbol}`" />
</template>

<style scoped>
:deep(.n-radio-group) {
  height: auto;
  white-space: normal;
}
h1 {
  font-size: 22px;
  margin: 0 0 10px;
}
h1 small {
  font-size: 13px;
  font-weight: 400;
}
</style>
