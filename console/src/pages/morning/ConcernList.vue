<script setup lang="ts">
// What needs a person, worst first, with the next action.
import { NTag } from "naive-ui";
import type { Concern } from "../../composables/api";
import type { RouteLocationRaw } from "vue-router";
import { useMeaning } from "../../composables/meaning";

defineProps<{ concerns: readonly Concern[] }>();
const meaning = useMeaning();

/** Where the thing itself is that a concern speaks of: the page that says what its command says. */
function place(concern: Concern): RouteLocationRaw | undefined {
  const words = concern.command.split(" ").slice(1);
  const option = (name: string) => (words.includes(name) ? words[words.indexOf(name) + 1] : undefined);
  switch (words[0]) {
    case "gaps":
      return { name: "morning", query: { cause: option("--cause") } };
    case "fetches":
      return { name: "runs", query: { failed: option("--source") ?? "all" } };
    case "quarantine":
      return { name: "aside" };
    case "findings":
    case "restatements":
      return { name: "trust" };
    case "lists":
      return { name: "sources" };
    case "settle":
      return { name: "instrument", params: { symbol: words[1].split("/")[0] }, query: { series: words[1] } };
    case "collect":
    case "schedule":
      return { name: "morning", hash: "#collectors" };
    default:
      return undefined;
  }
}
</script>

<template>
  <ul>
    <li v-for="concern in concerns" :key="concern.kind + concern.what">
      <n-tag size="small" :bordered="false" class="kind">{{ concern.kind }}</n-tag>
      <span>
        <router-link v-if="place(concern)" class="link" :to="place(concern)!">{{ concern.what }}</router-link>
        <template v-else>{{ concern.what }}</template>
        <span class="next" :style="{ color: meaning.faint }">{{ concern.next }}</span>
      </span>
    </li>
  </ul>
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
