<script setup lang="ts">
// Continuous series of futures: the chain of contracts, where it rolls, and the spread at each roll.
import { NAlert, NEmpty, useMessage } from "naive-ui";
import { computed, ref, watch } from "vue";
import { RouterLink, useRoute } from "vue-router";
import PlainTable from "../../components/PlainTable.vue";
import { get, type Chain, type ChainTold } from "../../composables/api";
import { useRefreshOn } from "../../composables/live";
import { useMeaning } from "../../composables/meaning";
import { count } from "../../composables/show";

const route = useRoute();
const message = useMessage();
const meaning = useMeaning();
const all = ref<Chain[]>();
const told = ref<ChainTold>();
const name = computed(() => String(route.params.name ?? "") || all.value?.[0]?.name || "");

async function load() {
  try {
    all.value = await get<Chain[]>("/chains");
    told.value = name.value ? await get<ChainTold>(`/chains/${encodeURIComponent(name.value)}`) : undefined;
  } catch (error) {
    message.error((error as Error).message, { duration: 8000, closable: true });
  }
}
watch(() => route.params.name, load, { immediate: true });
useRefreshOn((event) => event.event === "lists", load);

const day = (date: string) => Date.parse(`${date}T00:00:00Z`) / 86_400_000;
/** Contracts that have bars or are still to come, with what is drawn of each: where it has bars, and where it stands in the series. */
const drawn = computed(() => {
  const contracts = told.value?.chain_of ?? [];
  const today = told.value ? day(told.value.as_of.slice(0, 10)) : 0;
  const shown = contracts.filter((c) => c.bars_from).slice(-24);
  const dates = shown.flatMap((c) => [c.bars_from, c.last_traded ?? c.expiry]).flatMap((d) => (d ? [day(d)] : []));
  const [from, to] = [Math.min(...dates), Math.max(today, ...dates)];
  return { shown, from, to, today };
});
/** Where a date stands, and how wide a stretch is. */
const scale = computed(() => {
  const { from, to } = drawn.value;
  const at = (date: number) => `${((date - from) / (to - from)) * 100}%`;
  const width = (a: number, b: number) => `max(2px, ${((b - a) / (to - from)) * 100}%)`;
  return { at, width };
});
/** The first of each month, or of fewer. */
const months = computed(() => {
  const first = new Date(drawn.value.from * 86_400_000);
  const all = Array.from({ length: 400 }, (_, i) => Date.UTC(first.getUTCFullYear(), first.getUTCMonth() + 1 + i, 1) / 86_400_000).filter((d) => d < drawn.value.to - (drawn.value.to - drawn.value.from) * 0.06);
  const step = Math.ceil(all.length / 14);
  return all.filter((_, i) => i % step === 0).map((d) => ({ text: new Date(d * 86_400_000).toISOString().slice(0, 7), left: scale.value.at(d) }));
});
const lines = computed(() => {
  const { at, width } = scale.value;
  const { shown, today } = drawn.value;
  return shown.map((c) => {
    const [a, b] = [day(c.bars_from!), day(c.bars_to!) + 1];
    const [s, e] = [c.from ? day(c.from) : 0, c.to ? day(c.to) : today];
    const marks = [c.first_notice && { what: `first notice ${c.first_notice}`, left: at(day(c.first_notice)) }, (c.last_traded ?? c.expiry) && { what: `last trading day ${c.last_traded ?? c.expiry}`, left: at(day((c.last_traded ?? c.expiry)!)) }];
    return { c, bars: { left: at(a), width: width(a, b) }, stands: c.from ? { left: at(s), width: width(s, e) } : undefined, marks: marks.flatMap((m) => (m ? [m] : [])) };
  });
});
</script>

<template>
  <n-empty v-if="all && !all.length" description="No continuous series is configured; docs/futures.md tells what stands in chains/NAME.toml" />
  <template v-else-if="all">
    <h2>Continuous series</h2>
    <plain-table :headers="['Chain', 'Title', 'Contract now', 'Since', 'Contracts', 'Rolls', 'Rolls when']" :numbers="[4, 5]">
      <tr v-for="c in all" :key="c.name">
        <td><router-link class="link" :to="{ name: 'chains', params: { name: c.name } }">{{ c.name }}</router-link></td>
        <td>{{ c.title }}</td>
        <td>{{ c.contract ?? "none" }}</td>
        <td>{{ c.since ?? "" }}</td>
        <td class="number">{{ count(c.contracts) }}</td>
        <td class="number">{{ count(c.rolls) }}</td>
        <td class="wrap">{{ c.rule }}</td>
      </tr>
    </plain-table>
    <template v-if="told">
      <h2>{{ told.title }}</h2>
      <p>
        In each session {{ told.made_of }}; rolls {{ told.rule }}.
        <router-link class="link" :to="{ name: 'questions', query: { instruments: told.name, columns: 'date,close,contract', rolls: 'ratio' } }">Take its bars</router-link>
      </p>
      <n-alert v-if="told.notes.length" type="warning" :show-icon="false">
        <div v-for="note in told.notes" :key="note">{{ note }}</div>
      </n-alert>
      <div class="lines" role="img" :aria-label="`${lines.length} contracts and where each stands in the series`">
        <div class="row" aria-hidden="true">
          <span class="who" />
          <span class="time" :style="{ borderColor: 'transparent' }">
            <span v-for="month in months" :key="month.text" class="month" :style="{ left: month.left, color: meaning.faint, borderColor: meaning.line }">{{ month.text }}</span>
          </span>
        </div>
        <div v-for="line in lines" :key="line.c.instrument" class="row">
          <router-link class="who" :to="{ name: 'instrument', params: { symbol: line.c.instrument } }">{{ line.c.instrument }}</router-link>
          <span class="time" :style="{ borderColor: meaning.line }">
            <span class="bars" :title="`${line.c.instrument} has bars from ${line.c.bars_from} to ${line.c.bars_to}`" :style="{ ...line.bars, background: meaning.excused }" />
            <span v-if="line.stands" class="stands" :title="`${line.c.instrument} stands from ${line.c.from}${line.c.to ? ` to ${line.c.to}` : ''}`" :style="{ ...line.stands, background: meaning.held }" />
            <span v-for="mark in line.marks" :key="mark.what" class="mark" :title="mark.what" :style="{ left: mark.left, background: meaning.missing }" />
          </span>
        </div>
      </div>
      <p :style="{ color: meaning.faint }">Grey: the contract has daily bars. Blue: it stands in the series. Marks: first notice and last trading day.</p>
      <h2>Rolls</h2>
      <n-empty v-if="!told.rolled.length" description="It has not rolled yet" />
      <plain-table v-else :headers="['From', 'Old', 'New', 'Closes of', 'Old close', 'New close', 'Difference', 'Ratio', 'Why']" :numbers="[4, 5, 6, 7]">
        <tr v-for="r in told.rolled" :key="r.from">
          <td>{{ r.from }}</td>
          <td>{{ r.old }}</td>
          <td>{{ r.new }}</td>
          <td>{{ r.closes_on ?? "none" }}</td>
          <td class="number">{{ r.old_close }}</td>
          <td class="number">{{ r.new_close }}</td>
          <td class="number">{{ r.difference }}</td>
          <td class="number">{{ r.ratio }}</td>
          <td class="wrap"><template v-if="r.at_the_latest">at the latest: </template>{{ r.why }}</td>
        </tr>
      </plain-table>
    </template>
  </template>
</template>

<style scoped>
.row {
  display: flex;
  align-items: center;
  gap: 10px;
  height: 22px;
}
.who {
  width: 110px;
  flex: none;
}
.time {
  position: relative;
  flex: 1;
  height: 100%;
  border-bottom: 1px solid;
}
.bars,
.stands,
.mark {
  position: absolute;
}
.bars {
  top: 9px;
  height: 4px;
}
.stands {
  top: 4px;
  height: 14px;
  border-radius: 2px;
}
.month {
  position: absolute;
  font-size: 12px;
  padding-left: 3px;
  border-left: 1px solid;
  white-space: nowrap;
}
.mark {
  top: 2px;
  bottom: 2px;
  width: 2px;
}
.n-alert {
  margin-bottom: 10px;
}
</style>
