<script setup lang="ts">
// A decision that only a person can take: it is kept with the name of who took it.
import { NButton, NForm, NFormItem, NInput, NModal, NSpace, useMessage } from "naive-ui";
import { ref } from "vue";

const props = defineProps<{ title: string; yes: string; take: (by: string) => Promise<unknown> }>();
const emit = defineEmits<{ close: []; done: [] }>();
const message = useMessage();
const by = ref(localStorage.getItem("name") ?? "");

async function decide() {
  try {
    localStorage.setItem("name", by.value);
    await props.take(by.value.trim());
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
      <n-form-item label="Your name"><n-input v-model:value="by" placeholder="" :input-props="{ name: 'by' }" /></n-form-item>
      <n-space justify="end">
        <n-button @click="emit('close')">Cancel</n-button>
        <n-button type="primary" :disabled="!by.trim()" @click="decide">{{ yes }}</n-button>
      </n-space>
    </n-form>
  </n-modal>
</template>
