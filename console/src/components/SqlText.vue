<script setup lang="ts">
// What a SQL engine is told: statements or a query, for the engine that a person chooses; or why there is none.
import { NAlert, NSelect } from "naive-ui";
import { ref, watch } from "vue";
import { getText } from "../composables/api";

const props = defineProps<{ path: string; query?: Record<string, string | undefined> }>();
const engine = ref("datafusion");
const text = ref<string>();
const trouble = ref<string>();
const engines = [
  { value: "datafusion", label: "DataFusion" },
  { value: "duckdb", label: "DuckDB" },
  { value: "spark", label: "Spark" },
];

watch(
  () => [props.path, props.query, engine.value],
  async () => {
    try {
      text.value = await getText(props.path, { ...props.query, engine: engine.value });
      trouble.value = undefined;
    } catch (error) {
      [text.value, trouble.value] = [undefined, (error as Error).message];
    }
  },
  { immediate: true, deep: true },
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
