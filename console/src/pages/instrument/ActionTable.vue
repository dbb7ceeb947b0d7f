<script setup lang="ts">
// The corporate actions of an instrument: what each does to the prices before it, and who told of it.
import { NButton } from "naive-ui";
import { ref } from "vue";
import DecisionDialog from "../../components/DecisionDialog.vue";
import { address, remove, type Action, type Actions } from "../../composables/api";
import { useMeaning } from "../../composables/meaning";
import { count, wall } from "../../composables/show";
import PlainTable from "../../components/PlainTable.vue";

defineProps<{ told: Actions; zone: string }>();
const emit = defineEmits<{ changed: [] }>();
/** One that a person withdraws. */
const leaving = ref<Action>();
const meaning = useMeaning();
function does(a: Action): string {
  if (a.why) return `not applied: ${a.why}`;
  if (a.effect === "after-anchor") return "still to come";
  if (a.kind === "delisting") return "prices before stay";
  const volumes = a.volume_factor === "1" ? "" : `, volumes × ${a.volume_factor}`;
  return `prices before × ${a.price_factor}${volumes}${a.rate ? `, at the rate of ${a.rate}` : ""}`;
}
</script>

<template>
  <plain-table :headers="['Ex-date', 'Action', 'What it does', 'Close before', 'From', `Learned (${zone})`]" :numbers="[3]">
    <tr v-for="a in told.actions" :key="`${a.ex_date} ${a.terms}`">
      <td>{{ a.ex_date }}<template v-if="a.counts_on !== a.ex_date">, counts on {{ a.counts_on }}</template></td>
      <td>{{ a.terms }}</td>
      <td class="wrap" :style="a.why ? { color: meaning.missing, fontWeight: 600 } : {}">{{ does(a) }}</td>
      <td class="number">{{ a.close ?? "–" }}</td>
      <td>{{ a.from }}<template v-if="a.reason">: {{ a.reason }}</template> <n-button v-if="a.id" size="tiny" @click="leaving = a">Withdraw…</n-button></td>
      <td>{{ wall(a.learned_at, zone) }}</td>
    </tr>
    <tr v-for="e in told.events" :key="`${e.date} ${e.what}`">
      <td>{{ e.date }}</td>
      <td colspan="5">{{ e.what }}</td>
    </tr>
  </plain-table>
  <template v-for="check in told.checked" :key="check.source">
    <p v-if="check.sessions && !check.steps.length" :style="{ color: meaning.faint }">{{ check.source }} adjusts for {{ check.adjusted_for }} as these actions say: {{ count(check.sessions) }} sessions agree.</p>
    <p v-for="step in check.steps" :key="step.on" :style="{ color: meaning.missing }">{{ step.says }}</p>
  </template>
  <decision-dialog
    v-if="leaving"
    :title="`Withdraw ${leaving.terms} on ${leaving.ex_date}`"
    yes="Withdraw it"
    why
    :take="(by, why) => remove(address(`/actions/${leaving!.id}`, { by, why }))"
    @close="leaving = undefined"
    @done="((leaving = undefined), emit('changed'))"
  >
    It counts no more. It stays known as of instants before.
  </decision-dialog>
  <p v-for="conflict in told.conflicts" :key="conflict" :style="{ color: meaning.missing }">Told otherwise: {{ conflict }}</p>
</template>
