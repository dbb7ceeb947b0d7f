<script setup lang="ts">
// Finding an instrument by any word of its.
import { NEmpty, NInput, useMessage } from "naive-ui";
import { ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import PlainTable from "../../components/PlainTable.vue";
import { get, type Instrument } from "../../composables/api";
import { useMeaning } from "../../composables/meaning";

const route = useRoute();
const router = useRouter();
const message = useMessage();
const meaning = useMeaning();
const words = ref(String(route.query.q ?? ""));
const found = ref<Instrument[]>();
const most = 200;

async function load() {
  try {
    found.value = await get<Instrument[]>("/instruments", { q: words.value, most });
  } catch (error) {
    message.error((error as Error).message);
  }
}
let waiting: ReturnType<typeof setTimeout> | undefined;
watch(
  words,
  (q) => {
    clearTimeout(waiting);
    waiting = setTimeout(() => {
      void router.replace({ query: q ? { q } : {} });
      void load();
    }, 200);
  },
  { immediate: true },
);
</script>

<template>
  <n-input v-model:value="words" clearable autofocus placeholder="Symbol, name, former symbol, kind, venue, contract month or strike" style="max-width: 520px; margin-bottom: 12px" />
  <plain-table v-if="found?.length" :headers="['Symbol', 'Name', 'Kind', 'Venue', 'Currency', 'Traded', 'Formerly', 'Series']">
    <tr v-for="i in found" :key="i.symbol">
      <td><router-link class="link" :to="{ name: 'instrument', params: { symbol: i.symbol } }">{{ i.symbol }}</router-link></td>
      <td>{{ i.name }}<template v-if="i.strike">, strike {{ i.strike }}</template></td>
      <td>{{ i.kind }}</td>
      <td>{{ i.venue }}</td>
      <td>{{ i.currency }}</td>
      <td>{{ i.listed ?? "" }} – {{ i.last_traded ?? "" }}</td>
      <td>{{ i.former.map((f) => `${f.symbol} until ${f.until}`).join(", ") }}</td>
      <td>
        <router-link v-for="name in i.series" :key="name" class="link series" :to="{ name: 'instrument', params: { symbol: i.symbol }, query: { series: name } }">{{ name.split("/").slice(1).join(" · ") }}</router-link>
      </td>
    </tr>
  </plain-table>
  <p v-if="found?.length === most" :style="{ color: meaning.faint }">The first {{ most }}; more words find fewer.</p>
  <n-empty v-if="found && !found.length" :description="`No instrument has all of: ${words}`" />
</template>

<style scoped>
.series {
  margin-right: 12px;
}
</style>
