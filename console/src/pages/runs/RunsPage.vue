<script setup lang="ts">
// The runs, and the fetches of one of them.
import { NEmpty, useMessage } from "naive-ui";
import { computed, ref, watch } from "vue";
import { useRoute } from "vue-router";
import FetchTable from "../../components/FetchTable.vue";
import RunTable from "../../components/RunTable.vue";
import { get, type Fetch, type Run } from "../../composables/api";
import { useEvents, useRefreshOn, useStatus } from "../../composables/live";

const route = useRoute();
const message = useMessage();
const { status } = useStatus();
const zone = computed(() => (status.value?.venues.length === 1 ? status.value.venues[0].zone : "UTC"));
const id = computed(() => (route.params.id ? Number(route.params.id) : undefined));
/** Instead of runs the fetches that failed: of this source, or of `all`. */
const failed = computed(() => (route.query.failed ? String(route.query.failed) : undefined));
const runs = ref<Run[]>();
const fetches = ref<Fetch[]>([]);

async function load() {
  try {
    if (failed.value) {
      fetches.value = await get<Fetch[]>("/fetches", { state: "failed", source: failed.value === "all" ? undefined : failed.value, most: 300 });
      return;
    }
    runs.value = id.value === undefined ? await get<Run[]>("/runs", { most: 50 }) : [await get<Run>(`/runs/${id.value}`)];
    fetches.value = id.value === undefined ? [] : await get<Fetch[]>("/fetches", { run: id.value, most: 300 });
  } catch (error) {
    message.error((error as Error).message);
  }
}
watch([id, failed], load, { immediate: true });
useEvents((event) => {
  if (event.event !== "run" || !runs.value) return;
  const at = runs.value.findIndex((run) => run.id === event.run.id);
  if (at >= 0) runs.value[at] = event.run;
  else if (id.value === undefined) runs.value.unshift(event.run);
});
useRefreshOn((event) => event.event === "fetch" && event.fetch.run === id.value, load, 1000);
</script>

<template>
  <template v-if="failed">
    <h2><router-link class="link" :to="{ name: 'runs', params: {} }">Runs</router-link> › fetches that failed{{ failed === "all" ? "" : `, of ${failed}` }}, newest first</h2>
    <fetch-table :fetches="fetches" :zone="zone" />
  </template>
  <template v-else>
  <h2 v-if="id === undefined">Runs</h2>
  <h2 v-else><router-link class="link" :to="{ name: 'runs', params: {} }">Runs</router-link> › {{ id }}</h2>
  <n-empty v-if="runs && !runs.length" description="Nothing has run yet" />
  <run-table v-if="runs?.length" :runs="runs" :zone="zone" />
  <template v-if="id !== undefined">
    <h2>Its fetches, newest first</h2>
    <fetch-table :fetches="fetches" :zone="zone" />
  </template>
  </template>
</template>
