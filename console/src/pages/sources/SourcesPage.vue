<script setup lang="ts">
// The sources: how each stands, a try on one instrument, and the lists they keep.
import { NButton, NEmpty, useMessage } from "naive-ui";
import { computed, onMounted, ref } from "vue";
import DecisionDialog from "../../components/DecisionDialog.vue";
import PlainTable from "../../components/PlainTable.vue";
import SourceTable from "../../components/SourceTable.vue";
import { get, post, type ListChange, type ListStatus } from "../../composables/api";
import { useRefreshOn, useStatus } from "../../composables/live";
import { useMeaning } from "../../composables/meaning";
import { count, wall } from "../../composables/show";
import TryPanel from "./TryPanel.vue";

const { status } = useStatus();
const message = useMessage();
const meaning = useMeaning();
const zone = computed(() => (status.value?.venues.length === 1 ? status.value.venues[0].zone : "UTC"));
const lists = ref<ListStatus[]>();
const changes = ref<ListChange[]>([]);
const deciding = ref<{ list: ListStatus; take: boolean }>();

async function load() {
  try {
    [lists.value, changes.value] = await Promise.all([get<ListStatus[]>("/lists"), get<ListChange[]>("/lists/changes", { days: 7 })]);
  } catch (error) {
    message.error((error as Error).message);
  }
}
onMounted(load);
useRefreshOn((event) => event.event === "lists", load);

async function collect(list: ListStatus) {
  try {
    await post(`/lists/${list.source}/${list.list}`, {});
    await load();
  } catch (error) {
    message.error((error as Error).message, { duration: 8000, closable: true });
  }
}
/** How the newest collection of a list went. */
function result(l: ListStatus): string {
  if (l.failure) return `${l.failure}: ${l.message}`;
  if (l.would_end != null) return `held back: it would end ${count(l.would_end)} entries: ${l.ending?.join(", ")}${l.would_end > (l.ending?.length ?? 0) ? " and others" : ""}`;
  return l.refused ? `${l.refused} rows could not be read` : "";
}
const many = 12;
/** The first collection of a list makes everything new; one line says so. */
const shown = computed(() => {
  const sums = new Map<string, ListChange[]>();
  for (const c of changes.value) {
    const place = `${c.at} ${c.source}/${c.list} ${c.change}`;
    sums.set(place, [...(sums.get(place) ?? []), c]);
  }
  return [...sums.values()];
});
</script>

<template>
  <template v-if="status">
    <h2>Sources</h2>
    <source-table :sources="status.sources" :zone="zone" />
    <h2>Try a source</h2>
    <try-panel :sources="status.sources.map((s) => s.name)" :first="status.collectors[0]?.source" />
    <h2>Lists they keep</h2>
    <n-empty v-if="lists && !lists.length" description="No profile names a list" />
    <plain-table v-if="lists?.length" :headers="['List', 'Of', 'Venue', `Collected (${zone})`, 'Next', 'Rows', 'Result', '']" :numbers="[5]">
      <tr v-for="l in lists" :key="l.source + l.list">
        <td>{{ l.source }}/{{ l.list }}</td>
        <td>{{ l.of }}</td>
        <td>{{ l.venue }}</td>
        <td>{{ l.last ? wall(l.last, zone) : "–" }}</td>
        <td>{{ wall(l.next, zone) }}</td>
        <td class="number">{{ count(l.rows) }}</td>
        <td class="wrap" :style="l.failure || l.would_end != null ? { color: meaning.missing } : {}">{{ result(l) }}</td>
        <td>
          <template v-if="l.would_end != null"><n-button size="tiny" @click="deciding = { list: l, take: true }">Take…</n-button> <n-button size="tiny" @click="deciding = { list: l, take: false }">Refuse…</n-button></template>
          <n-button v-else size="tiny" @click="collect(l)">Collect now</n-button>
        </td>
      </tr>
    </plain-table>
    <decision-dialog
      v-if="deciding"
      :title="`${deciding.take ? 'Take' : 'Refuse'} the list ${deciding.list.source}/${deciding.list.list}`"
      :yes="deciding.take ? 'Take it' : 'Refuse it'"
      :take="(by) => post(`/lists/${deciding!.list.source}/${deciding!.list.list}/decision`, { take: deciding!.take, by })"
      @close="deciding = undefined"
      @done="((deciding = undefined), load())"
    >
      It has {{ deciding.list.rows === 1 ? "one row" : `${count(deciding.list.rows)} rows` }} now. {{ count(deciding.list.would_end ?? 0) }} of its entries are not in it any more: {{ deciding.list.ending?.join(", ") }}. {{ deciding.take ? "They end today." : "What it said before stays; collect it again when it is mended." }}
    </decision-dialog>
    <h2 v-if="shown.length">What they said that they had not said before, in seven days</h2>
    <plain-table v-if="shown.length" :headers="[`When (${zone})`, 'List', 'Change', 'Which']">
      <tr v-for="group in shown" :key="group[0].at + group[0].list + group[0].change">
        <td>{{ wall(group[0].at, zone) }}</td>
        <td>{{ group[0].source }}/{{ group[0].list }}</td>
        <td>{{ group[0].change }}</td>
        <td class="wrap">{{ group.length > many ? `${count(group.length)} rows, ${group[0].key} and others` : group.map((c) => (c.was_key ? `${c.was_key} → ${c.key}` : c.key)).join(", ") }}</td>
      </tr>
    </plain-table>
  </template>
</template>
