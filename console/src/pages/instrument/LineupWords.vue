<script setup lang="ts">
// Which sources a golden series is made of, and what each of them leaves out.
import type { Lineup } from "../../composables/api";
import { count } from "../../composables/show";

defineProps<{ lineup: Lineup }>();

const bars = (n: number) => (n === 1 ? "1 bar" : `${count(n)} bars`);

/** What is to be said of a source that takes part. */
function said(s: Lineup["sources"][number]): string[] {
  const out = [];
  if (s.basis !== "as traded") out.push(s.basis);
  if (s.doubted) out.push(`${bars(s.doubted)} doubted`);
  if (s.unclear) out.push(`${bars(s.unclear)} left out, since what was paid does not follow from what it told`);
  return out;
}
</script>

<template>
  <p>
    The best of <b v-for="(rank, i) in lineup.ranks" :key="i"><template v-if="rank.from"> from {{ rank.from }} on </template>{{ rank.sources.join(", then ") }}</b>.
    <template v-for="s in lineup.sources" :key="s.source">
      <template v-if="said(s).length"><br><b>{{ s.source }}</b>: {{ said(s).join("; ") }}.</template>
    </template>
    <template v-for="l in lineup.left_out" :key="l.source"><br><b>{{ l.source }}</b> left out: {{ l.why }}.</template>
  </p>
</template>
