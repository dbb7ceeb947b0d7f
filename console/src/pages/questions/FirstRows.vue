<script setup lang="ts">
// The first rows of an answer: what one would otherwise fetch a file to see.
import { ref, watch } from "vue";
import PlainTable from "../../components/PlainTable.vue";
import { firstLines } from "../../composables/api";
import { useMeaning } from "../../composables/meaning";

const props = defineProps<{ address: string }>();
const meaning = useMeaning();
const most = 12;
/** Wider than this, a table is no sight. */
const widest = 16;
const head = ref<string[]>([]);
const rows = ref<string[][]>([]);
const more = ref(false);
const trouble = ref<string>();
const isNumber = (at: number) => rows.value.some((row) => row[at]) && rows.value.every((row) => !row[at] || /^-?\d+(\.\d+)?$/.test(row[at]));

watch(
  () => props.address,
  async (address) => {
    try {
      // Parted by tabs, since no cell holds one.
      const [path, query] = address.split("?");
      const asked = new URLSearchParams(query);
      for (const name of ["decimal_sign", "header", "quotes", "arrays", "numbers"]) asked.delete(name);
      asked.set("format", "csv");
      asked.set("separator", "tab");
      const lines = await firstLines(`${path}?${asked}`, most + 2);
      if (address !== props.address) return;
      const cells = lines.map((line) => line.split("\t"));
      [head.value, rows.value] = [cells[0] ?? [], cells.slice(1, most + 1)];
      more.value = cells.length > most + 1;
      trouble.value = undefined;
    } catch (error) {
      [head.value, rows.value, trouble.value] = [[], [], (error as Error).message];
    }
  },
  { immediate: true },
);
</script>

<template>
  <h2>Its first rows</h2>
  <p v-if="trouble" :style="{ color: meaning.missing }">{{ trouble }}</p>
  <p v-else-if="!rows.length" :style="{ color: meaning.faint }">It has no row.</p>
  <template v-else>
    <plain-table :headers="head.slice(0, widest)" :numbers="head.map((_, at) => at).filter(isNumber)">
      <tr v-for="(row, at) in rows" :key="at">
        <td v-for="(cell, column) in row.slice(0, widest)" :key="column" :class="{ number: isNumber(column) }">{{ cell }}</td>
      </tr>
    </plain-table>
    <p v-if="more || head.length > widest" :style="{ color: meaning.faint }"><template v-if="more">More rows follow. </template><template v-if="head.length > widest">{{ head.length - widest }} columns more stand in the file.</template></p>
  </template>
</template>
