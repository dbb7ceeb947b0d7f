<script setup lang="ts">
// The questions saved under a name: taken up again, saved, or taken away.
import { NButton, NEmpty, NInput, NSpace } from "naive-ui";
import { ref } from "vue";
import DecisionDialog from "../../components/DecisionDialog.vue";
import PlainTable from "../../components/PlainTable.vue";
import { put, remove, type SavedQuestion } from "../../composables/api";
import { wall } from "../../composables/show";

const props = defineProps<{ saved: SavedQuestion[]; question?: string }>();
const emit = defineEmits<{ take: [name: string]; changed: [] }>();
const name = ref("");
/** What is about to be done with a name. */
const doing = ref<{ name: string; remove: boolean }>();
const act = (by: string) => (doing.value!.remove ? remove(`/questions/${doing.value!.name}?by=${encodeURIComponent(by)}`) : put(`/questions/${doing.value!.name}`, { text: props.question, by }));
</script>

<template>
  <h2>Saved under a name</h2>
  <n-space v-if="question" align="center">
    <n-input v-model:value="name" size="small" style="width: 200px" placeholder="a name for this question" :input-props="{ name: 'question' }" />
    <n-button size="small" :disabled="!name.trim()" @click="doing = { name: name.trim(), remove: false }">Save…</n-button>
  </n-space>
  <n-empty v-if="!saved.length" description="No question is saved yet" />
  <plain-table v-else :headers="['Question', 'By', 'Saved (UTC)', 'What it asks', '']">
    <tr v-for="s in saved" :key="s.name">
      <td><b>{{ s.name }}</b></td>
      <td>{{ s.by ?? "the configuration" }}</td>
      <td>{{ s.saved_at ? wall(s.saved_at, "UTC") : "–" }}</td>
      <td class="wrap"><code>{{ (s.toml ?? "").split("\n").filter((l) => l && !l.startsWith("#")).join("; ") }}</code></td>
      <td><n-button size="tiny" @click="emit('take', s.name)">Ask</n-button> <n-button v-if="s.by" size="tiny" @click="doing = { name: s.name, remove: true }">Remove…</n-button></td>
    </tr>
  </plain-table>
  <decision-dialog
    v-if="doing"
    :title="doing.remove ? `Remove the question ${doing.name}` : `Save the question as ${doing.name}`"
    :yes="doing.remove ? 'Remove' : 'Save'"
    :take="act"
    @close="doing = undefined"
    @done="((doing = undefined), (name = ''), emit('changed'))"
  >
    {{ doing.remove ? "What it said stays in its history." : "If there is one of that name, it is kept in its history." }}
  </decision-dialog>
</template>
