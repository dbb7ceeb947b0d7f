<script setup lang="ts">
// Accepting absences or findings: nothing closes without a name and a reason.
import { NButton, NForm, NFormItem, NInput, NModal, NSpace, useMessage } from "naive-ui";
import { computed, ref } from "vue";
import { post, type Finding, type Gap } from "../composables/api";

const props = withDefaults(defineProps<{ gaps?: Gap[]; findings?: Finding[] }>(), { gaps: () => [], findings: () => [] });
const emit = defineEmits<{ close: []; done: [] }>();
const message = useMessage();
const by = ref(localStorage.getItem("name") ?? "");
const note = ref("");
const title = computed(() => {
  const bars = props.gaps.reduce((sum, gap) => sum + gap.slots, 0);
  return props.findings.length ? `Accept ${props.findings.map((f) => f.check).join(", ")}` : `Accept that ${bars} bars are absent`;
});
const what = computed(() => {
  const all = [...props.gaps, ...props.findings];
  return all.length === 1 ? `${all[0].series}, ${all[0].when}` : `${all.length} gaps`;
});

async function excuse() {
  try {
    localStorage.setItem("name", by.value);
    await post("/excuses", { gaps: props.gaps.map((g) => g.id), findings: props.findings.map((f) => f.id), by: by.value, note: note.value });
    emit("done");
  } catch (error) {
    message.error((error as Error).message, { duration: 8000, closable: true });
  }
}
</script>

<template>
  <n-modal :show="true" preset="card" style="max-width: 520px" :title="title" @update:show="emit('close')">
    <p>{{ what }}. {{ findings.length ? "The bars are no longer doubted" : "They are no longer missing" }}; the excuse keeps your name and reason, and can be taken back.</p>
    <n-form @submit.prevent="excuse">
      <n-form-item label="Your name"><n-input v-model:value="by" placeholder="" :input-props="{ name: 'by' }" /></n-form-item>
      <n-form-item :label="findings.length ? 'Why it is fine' : 'Why no bar is needed'"><n-input v-model:value="note" type="textarea" placeholder="" :input-props="{ name: 'note' } as never" /></n-form-item>
      <n-space justify="end">
        <n-button @click="emit('close')">{{ findings.length ? "Keep the doubt" : "Keep it missing" }}</n-button>
        <n-button type="primary" :disabled="!by.trim() || !note.trim()" @click="excuse">Excuse</n-button>
      </n-space>
    </n-form>
  </n-modal>
</template>
