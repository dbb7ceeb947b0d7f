<script setup lang="ts">
// Any two series of one interval, or one as of two dates: what matches, what differs, and whether it does so all along.
import { NAlert, NAutoComplete, NButton, NInput, NInputNumber, NSpace, useMessage } from "naive-ui";
import { computed, onMounted, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import PlainTable from "../../components/PlainTable.vue";
import { get, type Compared, type Series } from "../../composables/api";
import { useMeaning } from "../../composables/meaning";
import { count, wall } from "../../composables/show";

const props = defineProps<{ zone: string }>();
const route = useRoute();
const router = useRouter();
const message = useMessage();
const meaning = useMeaning();
const all = ref<string[]>([]);
const text = (name: string) => (route.query[name] ? String(route.query[name]) : "");
const here = ref(text("here"));
const there = ref(text("there"));
const from = ref(text("from"));
const to = ref(text("to"));
const asOf = ref(text("there_as_of"));
const ticks = ref<number | null>(Number(text("ticks") || 0));
const found = ref<Compared>();
const busy = ref(false);

const offered = (typed: string) => all.value.filter((name) => name.toLowerCase().includes(typed.toLowerCase())).slice(0, 30);
const empty = computed(() => !here.value || (!there.value && !asOf.value));

onMounted(async () => {
  all.value = (await get<Series[]>("/series").catch(() => [])).map((s) => s.name);
  if (!empty.value) await compare();
});

async function compare() {
  busy.value = true;
  const query = { here: here.value, there: there.value || here.value, from: from.value || undefined, to: to.value || undefined, there_as_of: asOf.value || undefined, ticks: ticks.value ?? 0 };
  try {
    await router.replace({ query });
    found.value = await get<Compared>("/comparison", query);
  } catch (error) {
    found.value = undefined;
    message.error((error as Error).message, { duration: 8000, closable: true });
  } finally {
    busy.value = false;
  }
}
const moment = (at: string) => (at.includes("T") ? wall(at, props.zone) : at);
const differing = computed(() => Object.entries(found.value?.differing ?? {}).filter(([, n]) => n > 0));
const names = ["open", "high", "low", "close", "volume"];
</script>

<template>
  <n-space align="center">
    <n-auto-complete v-model:value="here" :options="offered(here)" size="small" style="width: 210px" placeholder="KBF/1m/harbour" :input-props="{ name: 'here' }" />
    against
    <n-auto-complete v-model:value="there" :options="offered(there)" size="small" style="width: 210px" placeholder="another series" :input-props="{ name: 'there' }" />
    <n-input v-model:value="asOf" size="small" style="width: 190px" placeholder="that as of, when not now" />
    <n-input v-model:value="from" size="small" style="width: 120px" placeholder="from" />
    <n-input v-model:value="to" size="small" style="width: 120px" placeholder="to" />
    <n-input-number v-model:value="ticks" size="small" style="width: 110px" :min="0"><template #suffix>ticks</template></n-input-number>
    <n-button size="small" type="primary" :disabled="empty" :loading="busy" @click="compare">Compare</n-button>
  </n-space>
  <section v-if="found" data-compared>
    <p>
      <b>{{ count(found.matched) }}</b> bars in both: {{ count(found.equal) }} the same, <span :style="found.matched > found.equal ? { color: meaning.missing, fontWeight: 600 } : {}">{{ count(found.matched - found.equal) }} differ</span
      ><template v-if="differing.length"> ({{ differing.map(([name, n]) => `${name} ${count(n)}`).join(", ") }})</template>; {{ count(found.only_here) }} only in {{ found.here }}, {{ count(found.only_there) }} only in {{ found.there }}
    </p>
    <n-alert v-for="advice in found.diagnosis" :key="advice" type="warning" :show-icon="false" title="All along" style="margin: 6px 0">{{ advice }}</n-alert>
    <plain-table v-if="found.differences.length" :headers="['Bar', ...names]" :numbers="[1, 2, 3, 4, 5]">
      <tr v-for="d in found.differences" :key="d.at">
        <td>{{ moment(d.at) }}</td>
        <td v-for="(name, i) in names" :key="name" class="number" :style="d.here[i] !== d.there[i] ? { color: meaning.missing } : {}">{{ d.here[i] === d.there[i] ? d.here[i] : `${d.here[i] ?? "absent"} ≠ ${d.there[i] ?? "absent"}` }}</td>
      </tr>
    </plain-table>
  </section>
</template>
