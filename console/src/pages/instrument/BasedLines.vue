<script setup lang="ts">
// Several instruments on a common base: each is 100 at the first moment that all have.
import { computed, ref } from "vue";
import { useChart } from "../../composables/chart";
import { useMeaning, useTheme } from "../../composables/meaning";
import { wall } from "../../composables/show";

/** A moment, and the close of each instrument then. */
export type WideRow = Record<string, string | number | null>;

const props = defineProps<{ rows: WideRow[]; names: string[]; zone: string; traded: boolean }>();
const meaning = useMeaning();
const { dark } = useTheme();
const element = ref<HTMLElement>();
const moment = (row: WideRow) => String(row.date ?? wall(String(row.time), props.zone));
const price = (row: WideRow, name: string) => (typeof row[name] === "number" && row[name] > 0 ? (row[name] as number) : undefined);
const base = computed(() => props.rows.find((row) => props.names.every((name) => price(row, name) !== undefined)));

const option = computed(() => {
  const m = meaning.value;
  const colours = dark.value ? ["#4aa8d0", "#f0a04b", "#d9d2c5", "#2f7fa3", "#c39bd3", "#7d8590"] : ["#1f6f8b", "#d9741a", "#5b4636", "#7fb3c8", "#8a5a9c", "#9aa3ab"];
  const based = (row: WideRow, name: string) => {
    const [now, first] = [price(row, name), base.value && price(base.value, name)];
    return now !== undefined && first !== undefined ? Number(((now / first) * 100).toFixed(2)) : "-";
  };
  return {
    animation: false,
    color: colours,
    grid: { left: 64, right: 16, top: 36, bottom: 60 },
    legend: { icon: "rect", itemHeight: 3, top: 4, left: 56, itemWidth: 22, textStyle: { color: m.text } },
    tooltip: { trigger: "axis", confine: true, axisPointer: { type: "line" } },
    xAxis: { type: "category", data: props.rows.map(moment), axisLine: { lineStyle: { color: m.line } }, axisTick: { show: false }, axisLabel: { color: m.faint } },
    yAxis: { scale: true, splitLine: { lineStyle: { color: m.line } }, axisLabel: { color: m.faint } },
    dataZoom: [{ type: "inside" }, { type: "slider", height: 20, bottom: 6, showDetail: false }],
    series: props.names.map((name) => ({ type: "line", name, showSymbol: props.rows.length === 1, lineStyle: { width: 2 }, data: props.rows.map((row) => based(row, name)) })),
  };
});
useChart(element, option);
</script>

<template>
  <div ref="element" class="chart" role="img" :aria-label="`${names.join(', ')} on a common base, ${rows.length} rows`" />
  <p :style="{ color: meaning.faint, margin: '2px 0 0' }">
    <template v-if="base">Each is 100 at {{ moment(base) }}, the first moment that all have.<template v-if="traded"> Prices are as traded: a split shows as a fall.</template></template>
    <template v-else>There is no moment at which all of them have a price above nought, so that they have no common base.</template>
  </p>
</template>

<style scoped>
.chart {
  width: 100%;
  height: 430px;
  margin-top: 8px;
}
</style>
