<script setup lang="ts">
// A corporate action that a person enters: its kind, its terms, and who says so and why.
import { NFormItem, NInput, NSelect, NSpace } from "naive-ui";
import { computed, ref } from "vue";
import DecisionDialog from "../../components/DecisionDialog.vue";
import { post } from "../../composables/api";

const props = defineProps<{ instrument: string }>();
const emit = defineEmits<{ close: []; done: [] }>();
/** The terms of each kind, with what to write. */
const ratio = [["new", "New shares"], ["old", "For so many old"]];
const paid = [["amount", "Amount a share"], ["currency", "Currency, if another"], ["rate", "Rate to ours, if another"]];
const terms: Record<string, string[][]> = {
  split: ratio,
  bonus: ratio,
  dividend: paid,
  special: paid,
  rights: [...ratio, ["price", "Price of a new share"]],
  "spin-off": [...ratio, ["value", "Worth of a new share, if known"]],
  delisting: [["price", "What a holder got a share"]],
};
const kinds = Object.keys(terms).map((value) => ({ value, label: value }));
const kind = ref("split");
const exDate = ref("");
const given = ref<Record<string, string>>({});
const fields = computed(() => terms[kind.value]);

async function enter(by: string, reason: string) {
  const said = fields.value.map(([name]) => [name, given.value[name]?.trim()]).filter(([, value]) => value);
  const action = { instrument: props.instrument, kind: kind.value, terms: { ex_date: exDate.value.trim(), ...Object.fromEntries(said) } };
  await post("/actions", { actions: [action], by, reason });
}
</script>

<template>
  <decision-dialog :title="`Enter an action of ${instrument}`" yes="Enter it" why :take="enter" @close="emit('close')" @done="emit('done')">
    It goes before what lists say, from now on; answers as of instants before stay as they were.
    <template #fields>
      <n-space>
        <n-form-item label="Kind"><n-select v-model:value="kind" style="width: 104px" :options="kinds" /></n-form-item>
        <n-form-item label="Ex-date"><n-input v-model:value="exDate" style="width: 106px" placeholder="2025-03-17" :input-props="{ name: 'ex_date' }" /></n-form-item>
        <n-form-item v-for="[name, label] in fields" :key="name" :label="label"><n-input v-model:value="given[name]" style="width: 106px" placeholder="" :input-props="{ name }" /></n-form-item>
      </n-space>
    </template>
  </decision-dialog>
</template>
