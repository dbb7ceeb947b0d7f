<script setup lang="ts">
// Fetches; one opens into the first lines of its answer.
import { NButton, NDrawer, NDrawerContent, NEmpty } from "naive-ui";
import { ref } from "vue";
import { get, type Fetch } from "../composables/api";
import { useMeaning } from "../composables/meaning";
import { bytes, count, wall } from "../composables/show";
import PlainTable from "./PlainTable.vue";

defineProps<{ fetches: readonly Fetch[]; zone: string }>();
const meaning = useMeaning();
const open = ref<Fetch>();

async function look(id: number) {
  open.value = await get<Fetch>(`/fetches/${id}`);
}
const moment = (text: string, zone: string) => (text.includes("T") ? wall(text, zone) : text);
</script>

<template>
  <n-empty v-if="!fetches.length" description="Nothing has been asked for" />
  <plain-table v-else :headers="['Fetch', 'Series', `Window (${zone})`, 'State', 'Tries', 'Rows', 'New', 'Same', 'Restated', 'Result']" :numbers="[0, 4, 5, 6, 7, 8]">
    <tr v-for="fetch in fetches" :key="fetch.id">
      <td class="number"><n-button text size="small" type="primary" @click="look(fetch.id)">{{ fetch.id }}</n-button></td>
      <td>{{ fetch.series }}</td>
      <td>{{ moment(fetch.from, zone) }} – {{ moment(fetch.to, zone) }}</td>
      <td>{{ fetch.state }}</td>
      <td class="number">{{ fetch.attempts }}</td>
      <td class="number">{{ count(fetch.rows) }}</td>
      <td class="number">{{ count(fetch.bars_new) }}</td>
      <td class="number">{{ count(fetch.bars_same) }}</td>
      <td class="number">{{ count(fetch.restated) }}</td>
      <td class="wrap" :style="fetch.failure ? { color: meaning.missing } : {}">{{ fetch.failure ? `${fetch.failure}: ${fetch.message}` : fetch.refused ? `${fetch.refused} rows in quarantine` : "" }}</td>
    </tr>
  </plain-table>
  <n-drawer :show="!!open" :width="640" style="max-width: 95vw" @update:show="open = undefined">
    <n-drawer-content v-if="open" :title="`Fetch ${open.id}: ${open.series}`" closable>
      <p><code>{{ open.request }}</code></p>
      <p>Asked {{ wall(open.asked_at, zone, true) }} {{ zone }}, {{ open.attempts }} attempts. {{ open.status ? `Status ${open.status}, ${bytes(open.payload_bytes)}, ${open.rows} rows.` : "No answer." }}</p>
      <p v-for="(page, i) in (open.pages ?? []).slice(1)" :key="i">Page {{ i + 2 }}<template v-if="page.part"> ({{ page.part }})</template>: <code>{{ page.request }}</code>, <a class="link" :href="`/api/v1/fetches/${open.id}/payload?page=${i + 2}`">{{ bytes(page.bytes) }}</a></p>
      <p v-if="open.failure" :style="{ color: meaning.missing }">{{ open.failure }}: {{ open.message }}</p>
      <p v-else>{{ count(open.bars_new) }} bars new, {{ count(open.bars_same) }} same, {{ count(open.restated) }} restated, {{ open.refused }} in quarantine, {{ open.unfinished }} not finished.</p>
      <template v-if="open.first_lines">
        <pre class="payload">{{ open.first_lines.join("\n") }}</pre>
        <p><a class="link" :href="`/api/v1/fetches/${open.id}/payload`">The exact bytes</a>, SHA-256 <code style="word-break: break-all">{{ open.payload }}</code></p>
      </template>
    </n-drawer-content>
  </n-drawer>
</template>
