<script setup lang="ts">
// What was set aside: rows that cannot be true or wait for a decision, and what people accepted.
import { NButton, NEmpty, useMessage } from "naive-ui";
import { computed, onMounted, ref } from "vue";
import DecisionDialog from "../../components/DecisionDialog.vue";
import PlainTable from "../../components/PlainTable.vue";
import { get, post, remove, type Excuse, type Quarantined } from "../../composables/api";
import { useRefreshOn, useStatus } from "../../composables/live";
import { useMeaning } from "../../composables/meaning";
import { wall } from "../../composables/show";

const { status } = useStatus();
const message = useMessage();
const meaning = useMeaning();
const zone = computed(() => (status.value?.venues.length === 1 ? status.value.venues[0].zone : "UTC"));
const rows = ref<Quarantined[]>();
const excuses = ref<Excuse[]>();

async function load() {
  try {
    [rows.value, excuses.value] = await Promise.all([get<Quarantined[]>("/quarantine", { most: 300 }), get<Excuse[]>("/excuses")]);
  } catch (error) {
    message.error((error as Error).message);
  }
}
onMounted(load);
useRefreshOn((event) => event.event === "excuses" || (event.event === "fetch" && event.fetch.refused > 0), load);

async function revoke(excuse: Excuse) {
  try {
    await remove(`/excuses/${excuse.id}`);
    await load();
  } catch (error) {
    message.error((error as Error).message);
  }
}
const deciding = ref<{ row: Quarantined; take: boolean }>();
const moment = (text: string) => (text.includes("T") ? wall(text, zone.value) : text);
const link = (series: string, at?: string | null) => ({ name: "instrument", params: { symbol: series.split("/")[0] }, query: { series, at: at ?? undefined } });
</script>

<template>
  <h2>In quarantine, newest first</h2>
  <n-empty v-if="rows && !rows.length" description="No row is in quarantine: everything that came could be true" />
  <plain-table v-if="rows?.length" :headers="['Series', `Moment (${zone})`, 'Flaw', 'Why', 'Fetch', 'Line', 'The row', '']" :numbers="[4, 5]">
    <tr v-for="(row, i) in rows" :key="i">
      <td><router-link class="link" :to="link(row.series, row.at)">{{ row.series }}</router-link></td>
      <td>{{ row.at ? moment(row.at) : "–" }}</td>
      <td :style="{ color: meaning.missing }">{{ row.flaw }}</td>
      <td class="wrap">{{ row.because }}</td>
      <td class="number">{{ row.fetch }}</td>
      <td class="number">{{ row.page > 1 ? `${row.page}:` : "" }}{{ row.line }}</td>
      <td><code>{{ row.text }}</code></td>
      <td>
        <template v-if="row.decision">{{ row.decision }}</template>
        <template v-else-if="row.flaw === 'held-back'"><n-button size="tiny" @click="deciding = { row, take: true }">Take…</n-button> <n-button size="tiny" @click="deciding = { row, take: false }">Refuse…</n-button></template>
      </td>
    </tr>
  </plain-table>
  <decision-dialog
    v-if="deciding"
    :title="`${deciding.take ? 'Take' : 'Refuse'} the new bar of ${deciding.row.series}`"
    :yes="deciding.take ? 'Take it' : 'Refuse it'"
    :take="(by) => post(`/quarantine/${deciding!.row.id}/decision`, { take: deciding!.take, by })"
    @close="deciding = undefined"
    @done="((deciding = undefined), load())"
  >
    {{ deciding.row.because }}. {{ deciding.take ? "The bar held before is kept as an earlier version." : "The bar held before stays." }}
  </decision-dialog>
  <h2>Accepted</h2>
  <n-empty v-if="excuses && !excuses.length" description="Nothing has been accepted" />
  <plain-table v-if="excuses?.length" :headers="['Series', `From (${zone})`, 'To', 'What', 'By', 'Why', 'Given', '']">
    <tr v-for="e in excuses" :key="e.id">
      <td><router-link class="link" :to="link(e.series, e.from)">{{ e.series }}</router-link></td>
      <td>{{ moment(e.from) }}</td>
      <td>{{ moment(e.to) }}</td>
      <td>{{ e.finding ?? "absence" }}</td>
      <td>{{ e.by }}</td>
      <td class="wrap">{{ e.note }}</td>
      <td>{{ wall(e.given_at, zone) }}</td>
      <td><n-button v-if="!e.revoked_at" size="tiny" @click="revoke(e)">Take back</n-button><template v-else>taken back {{ wall(e.revoked_at, zone) }}</template></td>
    </tr>
  </plain-table>
</template>
