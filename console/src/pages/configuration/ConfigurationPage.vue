<script setup lang="ts">
// What changed when in the configuration: each one that was accepted, and the differences of its files.
import { NEmpty, useMessage } from "naive-ui";
import { computed, onMounted, ref } from "vue";
import PlainTable from "../../components/PlainTable.vue";
import { get, type AcceptedConfiguration, type FileChange } from "../../composables/api";
import { useStatus } from "../../composables/live";
import { useMeaning } from "../../composables/meaning";
import { wall } from "../../composables/show";

const { status } = useStatus();
const message = useMessage();
const meaning = useMeaning();
const zone = computed(() => (status.value?.venues.length === 1 ? status.value.venues[0].zone : "UTC"));
const accepted = ref<AcceptedConfiguration[]>();
const open = ref<AcceptedConfiguration>();

onMounted(async () => {
  accepted.value = await get<AcceptedConfiguration[]>("/history").catch((error) => (message.error((error as Error).message), undefined));
});
async function show(one: AcceptedConfiguration) {
  open.value = open.value?.number === one.number ? undefined : await get<AcceptedConfiguration>(`/history/${one.number}`).catch((error) => (message.error((error as Error).message), undefined));
}
const first = computed(() => accepted.value?.at(-1)?.number);
const named = 5;
function summary(one: AcceptedConfiguration): string {
  if (one.number === first.value) return "the first that is kept";
  const files = one.changes.slice(0, named).map((c) => `${c.path} ${c.change}`);
  return files.join(", ") + (one.changes.length > named ? ` and ${one.changes.length - named} more` : "");
}
const lines = (file: FileChange) => (file.difference ?? "").split("\n").filter((line, at, all) => line || at < all.length - 1);
function colour(line: string) {
  if (line.startsWith("+")) return { color: meaning.value.up };
  if (line.startsWith("-")) return { color: meaning.value.missing };
  return line.startsWith("@") ? { color: meaning.value.faint } : {};
}
</script>

<template>
  <h2>Configurations that were accepted, newest first</h2>
  <p :style="{ color: meaning.faint }">An answer as of a past instant is made with the configuration that counted then. The first one also stands for all time before.</p>
  <n-empty v-if="accepted && !accepted.length" description="No configuration is kept yet" />
  <plain-table v-if="accepted?.length" :headers="['Number', `Accepted (${zone})`, 'What changed']" :numbers="[0]">
    <template v-for="one in accepted" :key="one.number">
      <tr>
        <td class="number">{{ one.number }}</td>
        <td>{{ wall(one.accepted_at, zone) }}</td>
        <td class="wrap">
          <a class="link" href="#" :aria-expanded="open?.number === one.number" @click.prevent="show(one)">{{ summary(one) }}</a>
        </td>
      </tr>
      <tr v-if="open?.number === one.number">
        <td colspan="3" class="wrap">
          <section v-for="file in open.changes" :key="file.path">
            <strong>{{ file.path }}</strong> {{ file.change }}, {{ file.added }} {{ file.added === 1 ? "line" : "lines" }} added, {{ file.removed }} removed
            <pre><span v-for="(line, at) in lines(file)" :key="at" :style="colour(line)">{{ line }}
</span></pre>
          </section>
        </td>
      </tr>
    </template>
  </plain-table>
</template>

<style scoped>
section {
  margin: 4px 0 12px;
}
pre {
  margin: 4px 0 0;
  font-size: 12px;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  max-height: 420px;
  overflow-y: auto;
}
</style>
