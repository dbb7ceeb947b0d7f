<script setup lang="ts">
// Gaps with their causes, to repair or excuse; what many series miss at once is one row that unfolds.
import { NButton, NSpace, NTag } from "naive-ui";
import { computed, ref } from "vue";
import type { Gap, Hole } from "../composables/api";
import { useRepair } from "../composables/repair";
import { count } from "../composables/show";
import ExcuseDialog from "./ExcuseDialog.vue";
import GapList from "./GapList.vue";
import PlainTable from "./PlainTable.vue";

const props = defineProps<{ holes: Hole[]; gaps: Gap[]; most: number }>();
const emit = defineEmits<{ changed: [] }>();
const { busy, repair } = useRepair();
const open = ref<string>();
const excusing = ref<Gap[]>([]);

const wide = computed(() => props.holes.filter((hole) => hole.series > 1));
const byId = computed(() => new Map(props.gaps.map((gap) => [gap.id, gap])));
const of = (hole: Hole) => hole.gaps.flatMap((id) => byId.value.get(id) ?? []);
const own = computed(() => {
  const told = new Set(wide.value.flatMap((hole) => hole.gaps));
  return props.gaps.filter((gap) => !told.has(gap.id));
});

const canRefetch = (hole: Hole) => hole.cause !== "beyond-reach" && hole.cause !== "not-yet-due";
</script>

<template>
  <plain-table v-if="wide.length" :headers="['Missing', 'Where and when', 'Cause', 'Why', '']" :numbers="[0]">
    <template v-for="hole in wide" :key="hole.gaps[0]">
      <tr data-hole>
        <td class="number">{{ count(hole.slots) }} bars</td>
        <td class="wrap"><b>{{ hole.series }} of {{ hole.of }}</b> series of {{ hole.venue }} at {{ hole.interval }}{{ hole.side === "trade" ? "" : ` (${hole.side})` }} from {{ hole.source }}<br />{{ hole.when }}</td>
        <td><n-tag size="small" :bordered="false">{{ hole.cause }}</n-tag></td>
        <td class="wrap">{{ hole.because }}</td>
        <td>
          <n-space :wrap="false" size="small">
            <n-button size="tiny" :aria-expanded="open === hole.gaps[0]" @click="open = open === hole.gaps[0] ? undefined : hole.gaps[0]">{{ open === hole.gaps[0] ? "Fold" : "Unfold" }}</n-button>
            <n-button v-if="canRefetch(hole)" size="tiny" type="primary" :disabled="busy" @click="repair(hole.gaps)">Repair</n-button>
            <n-button size="tiny" :disabled="of(hole).length < hole.gaps.length" @click="excusing = of(hole)">Excuse…</n-button>
          </n-space>
        </td>
      </tr>
      <tr v-if="open === hole.gaps[0]">
        <td colspan="5"><gap-list :gaps="of(hole)" @changed="emit('changed')" /></td>
      </tr>
    </template>
  </plain-table>
  <gap-list v-if="own.length" :gaps="own.slice(0, most)" @changed="emit('changed')" />
  <slot v-if="own.length > most" :more="own.length - most" />
  <excuse-dialog v-if="excusing.length" :gaps="excusing" @close="excusing = []" @done="((excusing = []), emit('changed'))" />
</template>
