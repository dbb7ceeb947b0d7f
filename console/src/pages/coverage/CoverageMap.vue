<script setup lang="ts">
// The heat map itself. Cells differ in fill and in frame, so that they are told apart in grey as well.
import { computed, ref } from "vue";
import type { Coverage } from "../../composables/api";
import { useChart } from "../../composables/chart";
import { useMeaning } from "../../composables/meaning";
import { count, percent } from "../../composables/show";

const props = defineProps<{ columns: string[]; rows: Coverage["rows"] }>();
const emit = defineEmits<{ open: [row: number, column: number] }>();
const meaning = useMeaning();
const element = ref<HTMLElement>();
/** Rows drawn at once; more scroll. */
const most = 40;
const drawn = computed(() => Math.min(props.rows.length, most));
const height = computed(() => `${drawn.value * 17 + 70}px`);

const cell = (row: Coverage["rows"][number], i: number) => ({
  expected: row.expected[i],
  held: row.held[i],
  excused: row.excused[i],
  missing: row.expected[i] - row.held[i] - row.excused[i],
  quiet: row.quiet?.[i] ?? 0,
});

function style(row: Coverage["rows"][number], i: number) {
  const c = cell(row, i);
  const edge = { borderColor: meaning.value.ground, borderWidth: 1 };
  if (c.missing === 0) return { color: c.excused ? meaning.value.excused : meaning.value.held, ...edge };
  if (c.held + c.quiet === 0) return { color: meaning.value.ground, borderColor: meaning.value.missing, borderWidth: 2 };
  return { color: (c.held + c.quiet) / (c.expected + c.quiet) < 0.5 ? meaning.value.missing : meaning.value.some, ...edge };
}

/** The series without its interval, which the page names: symbol, side where it is not trades, source. */
const named = (row: { series: string }) => row.series.split("/").filter((_, i) => i !== 1).join(" · ");

const option = computed(() => ({
  animation: false,
  grid: { left: 164, right: props.rows.length > most ? 40 : 12, top: 6, bottom: 48 },
  xAxis: { type: "category", data: props.columns, axisLabel: { color: meaning.value.faint }, axisLine: { lineStyle: { color: meaning.value.line } }, axisTick: { show: false } },
  yAxis: { type: "category", inverse: true, data: props.rows.map(named), axisLabel: { color: meaning.value.text, interval: 0 }, axisLine: { show: false }, axisTick: { show: false } },
  dataZoom: props.rows.length > most ? [{ type: "slider", yAxisIndex: 0, width: 18, right: 6, startValue: 0, endValue: most - 1, showDetail: false }, { type: "inside", yAxisIndex: 0, zoomOnMouseWheel: false, moveOnMouseWheel: true }] : [],
  tooltip: {
    confine: true,
    formatter: ({ value: [x, y] }: { value: [number, number] }) => {
      const row = props.rows[y];
      const c = cell(row, x);
      const excused = c.excused ? `, ${count(c.excused)} excused` : "";
      const quiet = c.quiet ? `, ${count(c.quiet)} quiet` : "";
      return `${row.series}<br>${props.columns[x]}: ${percent(c)}<br>${count(c.held)} of ${count(c.expected)} held${quiet}${excused}, ${count(c.missing)} missing`;
    },
  },
  visualMap: { show: false, min: 0, max: 1, dimension: 2, inRange: { color: [meaning.value.held, meaning.value.held] } },
  series: [
    {
      type: "heatmap",
      progressive: 5000,
      data: props.rows.flatMap((row, y) => row.expected.flatMap((n, x) => (n ? [{ value: [x, y, 1], itemStyle: style(row, x), visualMap: false }] : []))),
    },
  ],
}));
useChart(element, option, (data) => {
  const { value } = data as { value: [number, number] };
  emit("open", value[1], value[0]);
});
</script>

<template>
  <div ref="element" class="map" role="img" aria-label="Coverage by instrument and session" :style="{ height }" />
</template>

<style scoped>
.map {
  width: 100%;
}
</style>
