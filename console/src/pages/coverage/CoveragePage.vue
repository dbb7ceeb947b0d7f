<script setup lang="ts">
// Held against expected: instruments down, sessions or months across.
import { NCheckbox, NEmpty, NInput, NRadioButton, NRadioGroup, NSpace, useMessage } from "naive-ui";
import { computed, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { get, type Coverage } from "../../composables/api";
import { useRefreshOn } from "../../composables/live";
import { useMeaning } from "../../composables/meaning";
import CoverageMap from "./CoverageMap.vue";

const route = useRoute();
const router = useRouter();
const message = useMessage();
const meaning = useMeaning();
const interval = computed(() => String(route.query.interval ?? "1m"));
const by = computed(() => String(route.query.by ?? "session"));
const table = ref<Coverage>();
const words = ref("");
const incomplete = ref(false);

async function load() {
  try {
    table.value = await get<Coverage>("/coverage", { interval: interval.value, by: by.value });
  } catch (error) {
    message.error((error as Error).message);
  }
}
watch([interval, by], load, { immediate: true });
useRefreshOn((event) => event.event !== "fetch", load, 1500);

const choose = (change: Record<string, string>) => router.replace({ query: { ...route.query, ...change } });
const short = (row: Coverage["rows"][number]) => row.expected.some((n, i) => row.held[i] + row.excused[i] < n);
const rows = computed(() => {
  const wanted = words.value.trim().toLowerCase();
  return (table.value?.rows ?? []).filter((row) => row.series.toLowerCase().includes(wanted) && (!incomplete.value || short(row)));
});
function open(row: number, column: number) {
  const { symbol, series } = rows.value[row];
  void router.push({ name: "instrument", params: { symbol }, query: { series, at: by.value === "session" ? table.value?.columns[column] : undefined } });
}
</script>

<template>
  <n-space align="center" style="margin-bottom: 10px">
    <n-radio-group :value="interval" size="small" @update:value="(v: string) => choose({ interval: v })">
      <n-radio-button value="1m">Minutes</n-radio-button>
      <n-radio-button value="1d">Daily</n-radio-button>
    </n-radio-group>
    <n-radio-group :value="by" size="small" @update:value="(v: string) => choose({ by: v })">
      <n-radio-button value="session">By session</n-radio-button>
      <n-radio-button value="month">By month</n-radio-button>
    </n-radio-group>
    <n-input v-model:value="words" size="small" clearable placeholder="Symbol or source" style="width: 175px" />
    <n-checkbox v-model:checked="incomplete">Only what is incomplete</n-checkbox>
  </n-space>
  <p class="key" :style="{ color: meaning.faint }">
    <span><i :style="{ background: meaning.held }" />complete</span>
    <span><i :style="{ background: `linear-gradient(90deg, ${meaning.missing}, ${meaning.some})` }" />some bars held</span>
    <span><i :style="{ border: `2px solid ${meaning.missing}` }" />none held</span>
    <span><i :style="{ background: meaning.excused }" />complete with excuses</span>
    <span>empty: nothing expected</span>
  </p>
  <coverage-map v-if="table && rows.length" :columns="table.columns" :rows="rows" @open="open" />
  <n-empty v-else-if="table" :description="table.rows.length ? 'No series fits' : `No series of ${interval} bars is kept yet`" />
</template>

<style scoped>
.key {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 18px;
  margin: 0 0 6px;
  font-size: 13px;
}
.key i {
  display: inline-block;
  box-sizing: border-box;
  width: 22px;
  height: 11px;
  margin-right: 6px;
}
</style>
