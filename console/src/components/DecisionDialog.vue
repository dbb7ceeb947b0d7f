<script setup lang="ts">
// A decision that only a person can take: it is kept with the name of who took it.
import { NButton, NForm, NFormItem, NInput, NModal, NSpace, useMessage } from "naive-ui";
import { ref } from "vue";

const props = defineProps<{ title: string; yes: string; /** Whether a reason is asked for. */ why?: boolean; take: (by: string, why: string) => Promise<unknown> }>();
const emit = defineEmits<{ close: []; done: [] }>();
const message = useMessage();
const by = ref(localStorage.getItem("name") ?? "");
const reason = ref("");

async function decide() {
  try {
    localStorage.setItem("name", by.value);
    await props.take(by.value.trim(), reason.value.trim());
    emit("done");
  } catch (error) {
    message.error((error as Error).message, { duration: 8000, closable: true });
  }
}
</script>

<template>
  <n-modal :show="true" preset="card" style="max-width: 520px" :title="title" @update:show="emit('close')">
    <p><slot /></p>
    <n-form @submit.prevent="decide">
      <slot name="fields" />
      <n-form-item label="Your name"><n-input v-model:value="by" placeholder="" :input-props="{ name: 'by' }" /></n-form-item>
      <n-form-item v-if="why" label="Reason"><n-input v-model:value="reason" placeholder="" :input-props="{ name: 'why' }" /></n-form-item>
      <n-space justify="end">
        <n-button @click="emit('close')">Cancel</n-button>
        <n-button type="primary" :disabled="!by.trim() || (why && !reason.trim())" @click="decide">{{ yes }}</n-button>
      </n-space>
    </n-form>
  </n-modal>
</template>
