<script setup lang="ts">
// Runs with their figures; those under way move.
import { NButton, NProgress, useMessage } from "naive-ui";
import { post, type Run } from "../composables/api";
import { useMeaning } from "../composables/meaning";
import { bytes, count, wall } from "../composables/show";
import PlainTable from "./PlainTable.vue";

defineProps<{ runs: readonly Run[]; zone: string }>();
const message = useMessage();
const meaning = useMeaning();

async function cancel(run: Run) {
  try {
    await post(`/runs/${run.id}/cancel`, {});
    message.info(`run ${run.id} is cancelled; what it had under way is kept`);
  } catch (error) {
    message.error((error as Error).message);
  }
}
async function resume(run: Run, failedOnly: boolean) {
  try {
    const again = await post<Run>(`/runs/${run.id}/resume`, { failed_only: failedOnly });
    message.info(`taken up again as run ${again.id}`);
  } catch (error) {
    message.error((error as Error).message, { duration: 8000, closable: true });
  }
}
const failures = (run: Run) =>
  Object.entries(run.failures)
    .map(([kind, n]) => `${n} ${kind}`)
    .join(", ");
</script>

<template>
  <plain-table :headers="['Run', 'Collector', 'Why', 'State', `Began (${zone})`, 'Windows', 'Failed', 'New bars', 'Same', 'Restated', 'Quarantine', 'Bytes', 'Calls', '']" :numbers="[0, 7, 8, 9, 10, 11, 12]">
    <tr v-for="run in runs" :key="run.id">
      <td class="number"><router-link class="link" :to="{ name: 'runs', params: { id: run.id } }">{{ run.id }}</router-link></td>
      <td>{{ run.collector }}</td>
      <td>{{ run.reason }}</td>
      <td>{{ run.state }}</td>
      <td>{{ wall(run.started_at, zone, true) }}</td>
      <td style="min-width: 130px">
        <div v-if="run.waits_for" class="waits">waits for {{ run.waits_for }}</div>
        <template v-else>
          {{ run.done + run.failed }} of {{ run.windows }}
          <span v-if="run.seconds_left != null && run.state === 'running'">· {{ Math.ceil(run.seconds_left) }} s left</span>
          <n-progress v-if="run.state === 'running'" :percentage="run.windows ? (100 * (run.done + run.failed)) / run.windows : 0" :show-indicator="false" :height="4" :color="meaning.held" />
        </template>
      </td>
      <td :style="run.failed ? { color: meaning.missing, fontWeight: 600 } : {}">{{ run.failed ? `${run.failed}: ${failures(run)}` : "0" }}</td>
      <td class="number">{{ count(run.bars_new) }}</td>
      <td class="number">{{ count(run.bars_same) }}</td>
      <td class="number">{{ count(run.restated) }}</td>
      <td class="number">{{ count(run.refused) }}</td>
      <td class="number">{{ bytes(run.bytes) }}</td>
      <td class="number">{{ count(run.calls) }}<span v-if="run.state === 'running' && run.calls_a_minute"> · {{ run.calls_in_last_minute }} of {{ run.calls_a_minute }}/min</span></td>
      <td>
        <n-button v-if="run.state === 'running'" size="tiny" @click="cancel(run)">Cancel</n-button>
        <n-button v-else-if="run.state === 'cancelled'" size="tiny" @click="resume(run, false)">Resume</n-button>
        <n-button v-else-if="run.failed" size="tiny" @click="resume(run, true)">Retry failed</n-button>
      </td>
    </tr>
  </plain-table>
</template>

<style scoped>
.waits {
  max-width: 150px;
  white-space: normal;
}
</style>
