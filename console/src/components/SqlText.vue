<script setup lang="ts">
// What a SQL engine is told: statements or a query, for the engine that a person chooses; or why there is none.
import { NAlert, NSelect } from "naive-ui";
import { computed, ref, watch } from "vue";
import { address, getText } from "../composables/api";

const props = defineProps<{ path: string; query?: Record<string, string | undefined> }>();
const engine = ref("datafusion");
const text = ref<string>();
const trouble = ref<string>();
const engines = [
  { value: "datafusion", label: "DataFusion" },
  { value: "duckdb", label: "DuckDB" },
  { value: "spark", label: "Spark" },
];

/** By the text of its address: a parent that is drawn again asks nothing again. */
const asked = computed(() => address(props.path, { ...props.query, engine: engine.value }));
watch(
  asked,
  async (path) => {
    const [told, why] = await getText(path).then((answer) => [answer, undefined], (error) => [undefined, (error as Error).message]);
    // What was asked for meanwhile stands, whichever answer comes first.
    if (path === asked.value) [text.value, trouble.value] = [told, why];
  },
  { immediate: true },
);
</script>

<template>
  <n-select v-model:value="engine" size="small" class="engine" :options="engines" />
  <n-alert v-if="trouble" type="info" :show-icon="false">SQL does not say this. {{ trouble }}</n-alert>
  <pre v-else>{{ text }}</pre>
</template>

<style scoped>
.engine {
  width: 140px;
  margin-bottom: 6px;
}
pre {
  margin: 0;
  max-height: 420px;
  overflow: auto;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
</style>
