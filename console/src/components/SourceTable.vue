<script setup lang="ts">
// The sources: whether each is asked, and how much of its limits is used.
import { NProgress } from "naive-ui";
import type { DeepReadonly } from "vue";
import type { Source } from "../composables/api";
import { useMeaning } from "../composables/meaning";
import { count, percent, wall } from "../composables/show";
import PlainTable from "./PlainTable.vue";

defineProps<{ sources: DeepReadonly<Source[]>; zone: string }>();
const meaning = useMeaning();
const words: Record<string, string> = { ready: "asked as needed", "left-alone": "left alone until", "used-up": "calls of the day used up until", paused: "paused after failures, probed at" };
</script>

<template>
  <plain-table :headers="['Source', 'State', 'Calls in the last minute', 'Calls today', 'Key', 'Complete', 'Missing']" :numbers="[5, 6]">
    <tr v-for="s in sources" :key="s.name">
      <td class="wrap"><b>{{ s.name }}</b> · {{ s.title }}<template v-if="s.limits_shared_with?.length">; its calls are counted together with {{ s.limits_shared_with.join(", ") }}'s</template></td>
      <td :style="s.state === 'paused' ? { color: meaning.missing, fontWeight: 600 } : {}">{{ words[s.state] ?? s.state }}<template v-if="s.until"> {{ wall(s.until, zone) }} {{ zone }}</template></td>
      <td style="min-width: 160px">
        {{ s.calls_in_last_minute }} of {{ s.calls_a_minute }}
        <n-progress :percentage="(100 * s.calls_in_last_minute) / s.calls_a_minute" :show-indicator="false" :height="4" :color="meaning.held" />
      </td>
      <td>{{ s.calls_a_day == null ? "not limited" : `${count(s.calls_today ?? 0)} of ${count(s.calls_a_day)}` }}</td>
      <td>{{ s.key == null ? "none needed" : s.key ? "in the environment" : "not set" }}</td>
      <td class="number">{{ percent(s.completeness) }}</td>
      <td class="number">{{ count(s.completeness.missing) }}</td>
    </tr>
  </plain-table>
</template>
