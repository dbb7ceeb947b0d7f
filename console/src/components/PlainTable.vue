<script setup lang="ts">
// A table of rows with a header; wide ones scroll inside themselves.
import { NTable } from "naive-ui";

defineProps<{ headers: string[]; numbers?: number[] }>();
</script>

<template>
  <div class="scroll">
    <n-table size="small" :bordered="false" :single-line="true">
      <thead>
        <tr>
          <th v-for="(header, i) in headers" :key="header" :class="{ number: numbers?.includes(i) }">{{ header }}</th>
        </tr>
      </thead>
      <tbody><slot /></tbody>
    </n-table>
  </div>
</template>

<style>
.n-table th.number,
.n-table td.number {
  text-align: right;
}
.n-table td,
.n-table th {
  white-space: nowrap;
}
/* In a narrow window rows grow higher before anything has to be scrolled to. */
@media (max-width: 1100px) {
  .n-table td,
  .n-table th {
    white-space: normal;
  }
}
.n-table td.wrap {
  white-space: normal;
  min-width: 220px;
}
</style>
