<script setup lang="ts">
// What needs a person, worst first, with the next action.
import { NButton, NTag } from "naive-ui";
import { ref } from "vue";
import type { RouteLocationRaw } from "vue-router";
import DecisionDialog from "../../components/DecisionDialog.vue";
import { post, type Concern } from "../../composables/api";
import { useMeaning } from "../../composables/meaning";

defineProps<{ concerns: readonly Concern[] }>();
const emit = defineEmits<{ changed: [] }>();
const meaning = useMeaning();
/** The series that is to be read as it is, when a person says so. */
const settling = ref<string>();

/** The page that shows what a concern is about. */
function place(concern: Concern): RouteLocationRaw | undefined {
  const which = concern.which ?? undefined;
  switch (concern.of) {
    case "gaps":
      return { name: "morning", query: { cause: which } };
    case "fetches":
      return { name: "runs", query: { failed: which ?? "all" } };
    case "quarantine":
      return { name: "aside" };
    case "findings":
    case "restatements":
      return { name: "trust" };
    case "universes":
      return { name: "universes", params: { name: which } };
    case "editions":
      return { name: "editions", params: { spec: which } };
    case "lists":
      return { name: "sources" };
    case "series":
      return { name: "instrument", params: { symbol: which!.split("/")[0] }, query: { series: which } };
    case "collectors":
      return { name: "morning", hash: "#collectors" };
    default:
      return undefined;
  }
}
/** A series that readers see as before its source changed its basis; a person may end that. */
const unsettled = (concern: Concern) => (concern.command.startsWith("mizuno settle") ? concern.which ?? undefined : undefined);
</script>

<template>
  <ul>
    <li v-for="concern in concerns" :key="concern.kind + concern.what">
      <n-tag size="small" :bordered="false" class="kind">{{ concern.kind }}</n-tag>
      <span>
        <router-link v-if="place(concern)" class="link" :to="place(concern)!">{{ concern.what }}</router-link>
        <template v-else>{{ concern.what }}</template>
        <span class="next" :style="{ color: meaning.faint }">{{ concern.next }}</span>
        <n-button v-if="unsettled(concern)" size="tiny" class="next" @click="settling = unsettled(concern)">Read it as it is…</n-button>
      </span>
    </li>
  </ul>
  <decision-dialog
    v-if="settling"
    :title="`Read ${settling} as it is now`"
    yes="Read it as it is"
    :take="(by) => post('/settlements', { series: settling, by })"
    @close="settling = undefined"
    @done="((settling = undefined), emit('changed'))"
  >
    Readers then see what was collected on the new basis. Bars that could not be collected again keep their old prices, so the series stands on two bases.
  </decision-dialog>
</template>

<style scoped>
ul {
  list-style: none;
  padding: 0;
  margin: 0 0 4px;
}
li {
  display: flex;
  gap: 10px;
  margin: 5px 0;
}
.next {
  margin-left: 8px;
}
.kind {
  min-width: 88px;
  justify-content: center;
  flex: none;
}
</style>
