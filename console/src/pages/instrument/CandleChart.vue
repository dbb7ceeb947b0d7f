<script setup lang="ts">
// Candles and volume on a shared axis of slots: closed hours take no room, missing bars take theirs.
import { computed, ref } from "vue";
import type { Action, Bar, Gap } from "../../composables/api";
import { useChart } from "../../composables/chart";
import { useMeaning } from "../../composables/meaning";
import { count, wall } from "../../composables/show";
import { millis, withGaps } from "./slots";

const props = defineProps<{ bars: Bar[]; gaps: Gap[]; actions: readonly Action[]; zone: string; shown: string; interval: string }>();
const emit = defineEmits<{ open: [moment: string] }>();
const meaning = useMeaning();
const element = ref<HTMLElement>();
/** Whether a bar has a date and no time. */
const daily = computed(() => millis(props.shown) >= millis("1d"));
const slots = computed(() => withGaps(props.bars, props.gaps, props.shown, props.interval));
const label = (moment: string) => (daily.value ? moment : wall(moment, props.zone));

const areas = computed(() =>
  slots.value.stretches.map(({ from, to, gap }) => [
    { name: `${gap.slots} missing\n${gap.cause}`, xAxis: from },
    { xAxis: to },
  ]),
);

/** Where actions fall between two bars, so that nobody takes a step for a crash. Those of money are many, and have thinner lines. */
const lines = computed(() =>
  props.actions.flatMap((action) => {
    const at = slots.value.slots.findIndex((slot) => label(slot.moment).slice(0, 10) >= action.counts_on);
    if (at <= 0) return [];
    const often = action.kind === "dividend";
    const place = at / slots.value.slots.length;
    const text = { formatter: often && props.actions.length > 6 ? action.terms.split(" ")[1] : action.terms, align: place < 0.08 ? "left" : place > 0.92 ? "right" : "center" };
    return [{ name: action.terms, xAxis: at, lineStyle: { color: meaning.value.act, type: often ? "dotted" : "solid", width: 1 }, label: text }];
  }),
);

function tip(index: number): string {
  const slot = slots.value.slots[index];
  const bar = slot.bar;
  if (!bar) return `${label(slot.moment)}<br>missing: ${slot.gap?.because ?? ""}`;
  const volume = bar.volume === null ? "no volume" : `volume ${count(bar.volume)}`;
  const within = slot.gap ? `<br>some missing: ${slot.gap.because}` : "";
  return `${label(slot.moment)} ${daily.value ? "" : props.zone}<br>open ${bar.open}, high ${bar.high}<br>low ${bar.low}, close ${bar.close}<br>${volume}${bar.source ? `<br>from ${bar.source}` : ""}${within}`;
}

const option = computed(() => {
  const m = meaning.value;
  const axis = { type: "category", data: slots.value.slots.map((s) => label(s.moment)), axisLine: { lineStyle: { color: m.line } }, axisTick: { show: false } };
  const value = { scale: true, splitLine: { lineStyle: { color: m.line } }, axisLabel: { color: m.faint } };
  return {
    animation: false,
    grid: [
      { left: 64, right: 16, top: 22, height: "57%" },
      { left: 64, right: 16, top: "70%", height: "14%" },
    ],
    axisPointer: { link: [{ xAxisIndex: "all" }] },
    tooltip: { trigger: "axis", confine: true, axisPointer: { type: "line" }, formatter: (found: { dataIndex: number }[]) => (found.length ? tip(found[0].dataIndex) : "") },
    xAxis: [
      { ...axis, gridIndex: 0, axisLabel: { show: false } },
      { ...axis, gridIndex: 1, axisLabel: { color: m.faint } },
    ],
    yAxis: [
      { ...value, gridIndex: 0 },
      { ...value, gridIndex: 1, scale: false, splitNumber: 2, splitLine: { show: false }, axisLabel: { color: m.faint, formatter: (n: number) => (n >= 1000 ? `${n / 1000}k` : String(n)) } },
    ],
    dataZoom: [
      { type: "inside", xAxisIndex: [0, 1] },
      { type: "slider", xAxisIndex: [0, 1], height: 20, bottom: 6, showDetail: false },
    ],
    series: [
      {
        type: "candlestick",
        name: "price",
        xAxisIndex: 0,
        yAxisIndex: 0,
        // Up is filled in one colour, down is hollow: told apart by shape too.
        itemStyle: { color: m.up, color0: m.ground, borderColor: m.up, borderColor0: m.down },
        data: slots.value.slots.map(({ bar }) => (bar ? [bar.open, bar.close, bar.low, bar.high] : ["-", "-", "-", "-"])),
        markArea: {
          silent: true,
          itemStyle: { color: m.missing, opacity: 0.16, borderColor: m.missing, borderWidth: 1, borderType: "dashed" },
          label: { color: m.missing, position: "insideTop", fontSize: 11, lineHeight: 14 },
          data: areas.value,
        },
        markLine: {
          silent: true,
          symbol: "none",
          label: { color: m.act, position: "end", fontSize: 11, distance: 4 },
          data: lines.value,
        },
      },
      { type: "bar", name: "volume", xAxisIndex: 1, yAxisIndex: 1, large: true, itemStyle: { color: m.excused }, data: slots.value.slots.map(({ bar }) => bar?.volume ?? "-") },
    ],
  };
});
useChart(element, option, (_, index) => {
  const slot = slots.value.slots[index];
  if (slot?.bar) emit("open", slot.moment);
});
</script>

<template>
  <div ref="element" class="chart" role="img" :aria-label="`Candles of ${bars.length} bars, ${slots.stretches.length} gaps${lines.map((l) => `, ${l.name}`).join(``)}`" />
</template>

<style scoped>
.chart {
  width: 100%;
  height: 430px;
  margin-top: 8px;
}
</style>
