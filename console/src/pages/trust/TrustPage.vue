<script setup lang="ts">
// Trust or doubt: what the checks noticed, what sources changed, and any two series side by side.
import { NButton, NEmpty, NTag, useMessage } from "naive-ui";
import { computed, onMounted, ref } from "vue";
import ExcuseDialog from "../../components/ExcuseDialog.vue";
import PlainTable from "../../components/PlainTable.vue";
import { get, type Finding, type Restatement } from "../../composables/api";
import { useRefreshOn, useStatus } from "../../composables/live";
import { useMeaning } from "../../composables/meaning";
import { count, numbers, wall } from "../../composables/show";
import ComparePanel from "./ComparePanel.vue";

const { status } = useStatus();
const message = useMessage();
const meaning = useMeaning();
const zone = computed(() => (status.value?.venues.length === 1 ? status.value.venues[0].zone : "UTC"));
const findings = ref<Finding[]>();
const changes = ref<Restatement[]>();
const accepting = ref<Finding>();
const days = 7;
const shown = 60;

async function load() {
  try {
    [findings.value, changes.value] = await Promise.all([get<Finding[]>("/findings", { accepted: "true" }), get<Restatement[]>("/restatements", { days, most: 500 })]);
  } catch (error) {
    message.error((error as Error).message);
  }
}
onMounted(load);
useRefreshOn((event) => event.event !== "fetch", load);

const moment = (text: string) => (text.includes("T") ? wall(text, zone.value) : text);
const link = (series: string, at: string) => ({ name: "instrument", params: { symbol: series.split("/")[0] }, query: { series, at } });
const difference = (r: Restatement) =>
  numbers
    .map((name, i) => [name, r.was[i] ?? "absent", r.is[i] ?? "absent"])
    .filter(([, was, is]) => was !== is)
    .map(([name, was, is]) => `${name} ${was} → ${is}`)
    .join(", ");
</script>

<template>
  <h2>Noticed by the checks</h2>
  <n-empty v-if="findings && !findings.length" description="The checks find nothing in the bars as they are now" />
  <plain-table v-if="findings?.length" :headers="['Check', 'Where', 'Bars', 'What gave it away', '']" :numbers="[2]">
    <tr v-for="f in findings" :key="f.id" data-finding>
      <td><n-tag size="small" :bordered="false" :color="f.severity === 'doubt' && !f.accepted ? { textColor: meaning.missing } : {}">{{ f.check }}</n-tag></td>
      <td><router-link class="link" :to="link(f.series, f.from)">{{ f.series }}</router-link><br />{{ f.when }}</td>
      <td class="number">{{ count(f.bars) }}</td>
      <td class="wrap">{{ f.detail }}<br />{{ f.evidence }}<br /><span :style="{ color: meaning.faint }">{{ f.explanation }}</span></td>
      <td><template v-if="f.accepted">accepted</template><n-button v-else size="tiny" @click="accepting = f">Accept…</n-button></td>
    </tr>
  </plain-table>
  <excuse-dialog v-if="accepting" :findings="[accepting]" @close="accepting = undefined" @done="((accepting = undefined), load())" />

  <h2>Changed by sources in the last {{ days }} days, newest first</h2>
  <n-empty v-if="changes && !changes.length" description="No source has changed what it said before" />
  <plain-table v-if="changes?.length" :headers="['Bar', 'Learned', 'Fetch', 'What changed']" :numbers="[2]">
    <tr v-for="r in changes.slice(0, shown)" :key="`${r.series}@${r.at}@${r.learned_at}`">
      <td><router-link class="link" :to="link(r.series, r.at)">{{ r.series }}</router-link> {{ moment(r.at) }}</td>
      <td>{{ wall(r.learned_at, zone) }} {{ zone }}</td>
      <td class="number">{{ r.fetch }}</td>
      <td class="wrap">{{ difference(r) }}</td>
    </tr>
  </plain-table>
  <p v-if="changes && changes.length > shown" :style="{ color: meaning.faint }">and {{ changes.length - shown }} more: <code>mizuno restatements</code></p>

  <h2>Compare two series</h2>
  <compare-panel :zone="zone" />
</template>
