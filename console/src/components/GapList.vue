<script setup lang="ts">
// Gaps with their causes, to repair or excuse.
import { NButton, NSpace, NTag } from "naive-ui";
import { ref } from "vue";
import type { Gap } from "../composables/api";
import { useRepair } from "../composables/repair";
import { count } from "../composables/show";
import ExcuseDialog from "./ExcuseDialog.vue";
import PlainTable from "./PlainTable.vue";

defineProps<{ gaps: Gap[] }>();
const emit = defineEmits<{ changed: [] }>();
const { busy, repair } = useRepair();
const excusing = ref<Gap[]>([]);

const canRefetch = (gap: Gap) => gap.cause !== "beyond-reach" && gap.cause !== "not-yet-due";
</script>

<template>
  <n-space v-if="gaps.length > 1" style="margin: 10px 0 8px">
    <n-button size="small" :disabled="busy" @click="repair(gaps.filter(canRefetch).map((g) => g.id))">Repair all</n-button>
    <n-button size="small" @click="excusing = gaps">Excuse all…</n-button>
  </n-space>
  <plain-table :headers="['Missing', 'When', 'Cause', 'Why', 'Asked', '']" :numbers="[0, 4]">
    <tr v-for="gap in gaps" :key="gap.id" data-gap>
      <td class="number">{{ count(gap.slots) }} bars</td>
      <td>
        <router-link class="link" :to="{ name: 'instrument', params: { symbol: gap.series.split('/')[0] }, query: { series: gap.series, at: gap.from } }">{{ gap.series }}</router-link><br />{{ gap.when }}
      </td>
      <td><n-tag size="small" :bordered="false">{{ gap.cause }}</n-tag></td>
      <td class="wrap">{{ gap.because }}<template v-if="gap.cause !== 'not-yet-due'"><br />{{ gap.evidence }}</template></td>
      <td class="number">{{ gap.asked }}×</td>
      <td>
        <n-space :wrap="false" size="small">
          <n-button v-if="canRefetch(gap)" size="tiny" :type="gap.suggestion === 'refetch' ? 'primary' : 'default'" :disabled="busy" @click="repair([gap.id])">Repair</n-button>
          <n-button v-if="gap.cause !== 'not-yet-due'" size="tiny" :type="gap.suggestion === 'excuse' ? 'primary' : 'default'" @click="excusing = [gap]">Excuse…</n-button>
        </n-space>
      </td>
    </tr>
  </plain-table>
  <excuse-dialog v-if="excusing.length" :gaps="excusing" @close="excusing = []" @done="((excusing = []), emit('changed'))" />
</template>
