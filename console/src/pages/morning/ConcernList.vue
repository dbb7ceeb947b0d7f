<script setup lang="ts">
// What needs a person, worst first, with the next action.
import { NTag } from "naive-ui";
import type { Concern } from "../../composables/api";
import { useMeaning } from "../../composables/meaning";

defineProps<{ concerns: readonly Concern[] }>();
const meaning = useMeaning();
</script>

<template>
  <ul>
    <li v-for="concern in concerns" :key="concern.command">
      <n-tag size="small" :bordered="false" class="kind">{{ concern.kind }}</n-tag>
      <span>
        {{ concern.what }}
        <span :style="{ color: meaning.faint }"> — {{ concern.next }}: <code>{{ concern.command }}</code></span>
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
.kind {
  min-width: 88px;
  justify-content: center;
  flex: none;
}
</style>
