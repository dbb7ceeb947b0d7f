<script setup lang="ts">
// A question put together, what its answer would be, and the same question in other forms; and the saved ones.
import { NAlert, NButton, NInput, NSelect, NSpace, useMessage } from "naive-ui";
import { computed, onMounted, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import PlainTable from "../../components/PlainTable.vue";
import SqlText from "../../components/SqlText.vue";
import { get, type EditionSpec, type Explanation, type SavedQuestion } from "../../composables/api";
import { useMeaning } from "../../composables/meaning";
import { bytes, count, percent } from "../../composables/show";
import FirstRows from "./FirstRows.vue";
import SavedTable from "./SavedTable.vue";

const route = useRoute();
const router = useRouter();
const message = useMessage();
const meaning = useMeaning();
const text = (name: string, usual = "") => (route.query[name] ? String(route.query[name]) : usual);
const keys = ref({
  saved: text("saved"),
  universe: text("universe"),
  instruments: text("instruments"),
  interval: text("interval", "1d"),
  source: text("source"),
  from: text("from"),
  to: text("to"),
  last: text("last"),
  layout: text("layout", "long"),
  columns: text("columns"),
  where: text("where"),
  sort: text("sort"),
  limit: text("limit"),
  missing: text("missing", "absent"),
  adjust: text("adjust", "none"),
  zone: text("zone"),
  as_of: text("as_of"),
  since: text("since"),
});
/** Keys that have no field of their own, as an address writes them. */
const more = ref(Object.entries(route.query).filter(([name, value]) => value && !(name in keys.value)).map((pair) => pair.join("=")).join("&"));
const further = computed<Record<string, string>>(() => Object.fromEntries(more.value.split("&").map((pair) => pair.trim()).filter(Boolean).map((pair) => pair.split(/=(.*)/, 2)).map(([name, value = ""]) => [name, value])));
const told = ref<Explanation>();
/** The keys of what is told. */
const asked = computed(() => Object.fromEntries(new URLSearchParams(told.value?.forms.address.split("?")[1])));
const trouble = ref<string>();
const busy = ref(false);
const saved = ref<SavedQuestion[]>([]);
/** The latest editions that have a table for SQL engines. */
const tables = ref<string[]>([]);
const table = ref<string>();
const options = (...words: string[]) => words.map((value) => ({ value, label: value }));
const ways = [
  { value: "none", label: "as traded" },
  { value: "splits", label: "for splits" },
  { value: "all", label: "for all actions" },
];
const usual: Record<string, string> = { interval: "1d", layout: "long", missing: "absent", adjust: "none" };
/** The keys that say something else than the usual; those of a saved question are its own. */
const given = computed(() => ({ ...Object.fromEntries(Object.entries(keys.value).filter(([name, value]) => value && value !== usual[name] && (keys.value.layout === "latest" || !["sort", "limit"].includes(name)))), ...further.value }));
/** Actions that are not applied, each with its series. */
const refused = computed(() => told.value?.series.flatMap((s) => s.actions.filter((a) => a.why).map((a) => [s.series, a] as const)) ?? []);
const ready = computed(() => Boolean(keys.value.instruments || keys.value.saved || further.value.series || further.value.search || keys.value.universe));

async function load() {
  saved.value = await get<SavedQuestion[]>("/questions").catch((error) => (message.error((error as Error).message), []));
}
async function loadTables() {
  const specs = await get<EditionSpec[]>("/editions").catch(() => []);
  tables.value = specs.filter((s) => s.table && s.latest).map((s) => `${s.name}/latest`);
  table.value = tables.value[0];
}
async function explain() {
  busy.value = true;
  try {
    await router.replace({ query: given.value });
    told.value = await get<Explanation>("/explanation", given.value);
    trouble.value = undefined;
  } catch (error) {
    told.value = undefined;
    trouble.value = (error as Error).message;
  } finally {
    busy.value = false;
  }
}
function take(name: string) {
  keys.value = { ...keys.value, saved: name, instruments: "", universe: "", interval: "1d", source: "", from: "", to: "", last: "", layout: "long", columns: "", where: "", sort: "", limit: "", missing: "absent", adjust: "none", zone: "", as_of: "", since: "" };
  more.value = "";
  void explain();
}
onMounted(async () => {
  await Promise.all([load(), loadTables()]);
  if (ready.value) await explain();
});
/** The address of the answer as a file; what belongs to another format is left out. */
function file(format: string) {
  const [path, query] = told.value!.forms.address.split("?");
  const asked = new URLSearchParams(query);
  for (const name of ["separator", "decimal_sign", "header", "quotes", "arrays", "numbers", ...(format === "csv" ? [] : ["stamp"])]) asked.delete(name);
  asked.set("format", format);
  return `${path}?${asked}`;
}
const here = (form: string) => form.replaceAll("{service}", window.location.origin);
const sentence = (text: string) => text.charAt(0).toUpperCase() + text.slice(1);
const shown = 60;
</script>

<template>
  <h2>Ask for bars</h2>
  <n-space align="center">
    <n-input v-model:value="keys.instruments" size="small" style="width: 230px" :placeholder="keys.saved ? `those of ${keys.saved}` : 'KBF, OXB or AL*'" :input-props="{ name: 'instruments' }" @keyup.enter="explain" />
    <n-input v-model:value="keys.universe" size="small" style="width: 150px" placeholder="or a universe" :input-props="{ name: 'universe' }" @keyup.enter="explain" />
    <n-select v-model:value="keys.interval" size="small" style="width: 90px" :options="options('1d', '1m', '5m', '1h', '1w', '1mo')" />
    <n-input v-model:value="keys.source" size="small" style="width: 120px" placeholder="golden" :input-props="{ name: 'source' }" />
    <n-input v-model:value="keys.from" size="small" style="width: 120px" placeholder="from" :input-props="{ name: 'from' }" />
    <n-input v-model:value="keys.to" size="small" style="width: 120px" placeholder="to" />
    <n-input v-model:value="keys.last" size="small" style="width: 130px" placeholder="or last sessions" :input-props="{ name: 'last' }" />
    <n-select v-model:value="keys.layout" size="small" style="width: 90px" :options="options('long', 'wide', 'latest')" />
    <n-select v-model:value="keys.missing" size="small" style="width: 110px" :options="options('absent', 'rows', 'carried')" />
    <n-select v-model:value="keys.adjust" size="small" style="width: 150px" :options="ways" />
    <n-input v-model:value="keys.columns" size="small" style="width: 170px" placeholder="usual columns" :input-props="{ name: 'columns' }" />
    <n-input v-model:value="keys.where" size="small" style="width: 230px" placeholder="all rows, or close > mean_200" :input-props="{ name: 'where' }" @keyup.enter="explain" />
    <n-input v-if="keys.layout === 'latest'" v-model:value="keys.sort" size="small" style="width: 150px" placeholder="sorted by, as -rises" :input-props="{ name: 'sort' }" />
    <n-input v-if="keys.layout === 'latest'" v-model:value="keys.limit" size="small" style="width: 110px" placeholder="first rows" />
    <n-input v-model:value="keys.zone" size="small" style="width: 150px" placeholder="UTC" />
    <n-input v-model:value="keys.as_of" size="small" style="width: 240px" placeholder="as of now" :input-props="{ name: 'as_of' }" />
    <n-input v-model:value="keys.since" size="small" style="width: 240px" placeholder="or changes since" :input-props="{ name: 'since' }" />
    <n-input v-model:value="more" size="small" style="width: 260px" placeholder="more keys: side=bid&round=2" :input-props="{ name: 'more' }" clearable @keyup.enter="explain" />
    <n-button size="small" type="primary" :disabled="!ready" :loading="busy" @click="explain">Explain</n-button>
    <n-button v-if="keys.saved" size="small" quaternary @click="keys.saved = ''">without {{ keys.saved }}</n-button>
  </n-space>
  <n-alert v-if="trouble" type="error" title="This cannot be asked" style="margin-top: 12px">{{ trouble }}</n-alert>

  <template v-if="told">
    <h2>What the answer would be</h2>
    <p>
      <template v-if="told.completeness">{{ count(told.completeness.held) }} bars, {{ percent(told.completeness) }} complete, {{ count(told.completeness.missing) }} missing; </template>{{ count(told.blocks) }} blocks of {{ bytes(told.bytes) }} are read. As of {{ told.as_of }}, under configuration {{ told.configuration.number }}<template v-if="told.configuration.stands_for_earlier"> (no older one is kept)</template>.<template v-if="keys.since"> Only what has changed since {{ keys.since }} is written.</template>
      <a v-for="format in ['csv', 'xlsx', 'parquet']" :key="format" class="link" style="margin-left: 12px" :href="file(format)">{{ format.toUpperCase() }}</a>
    </p>
    <p :style="{ color: meaning.faint }">Columns: {{ told.columns.slice(0, shown).map((c) => c.name).join(", ") }}<template v-if="told.columns.length > shown"> and {{ told.columns.length - shown }} more</template>. Stamps: {{ told.stamps }}. {{ sentence(told.adjustment) }}.</p>
    <plain-table :headers="['Series', 'From', 'To', 'Bars', 'Complete', 'Missing', 'Sources']" :numbers="[3, 4, 5]">
      <tr v-for="s in told.series.slice(0, shown)" :key="s.series">
        <td><router-link class="link" :to="s.chain ? { name: 'chains', params: { name: s.chain } } : { name: 'instrument', params: { symbol: s.series.split('/')[0] }, query: { series: s.series } }">{{ s.series }}</router-link></td>
        <td>{{ s.from ?? "–" }}</td>
        <td>{{ s.to ?? "–" }}</td>
        <td class="number">{{ count(s.bars) }}</td>
        <td class="number">{{ s.completeness ? percent(s.completeness) : "–" }}</td>
        <td class="number" :style="s.completeness?.missing ? { color: meaning.missing } : {}">{{ s.completeness ? count(s.completeness.missing) : "–" }}</td>
        <td class="wrap">{{ s.sources.map((p) => p.source).join(", ") }}<template v-for="l in s.left_out" :key="l.source">; {{ l.source }} left out: {{ l.why }}</template></td>
      </tr>
    </plain-table>
    <p v-for="[series, a] in refused" :key="`${series} ${a.terms}`" :style="{ color: meaning.missing }">{{ series }}: {{ a.terms }} on {{ a.ex_date }} is not applied: {{ a.why }}</p>
    <p v-if="told.series.length > shown" :style="{ color: meaning.faint }">and {{ told.series.length - shown }} more series</p>
    <p v-if="told.without.length" :style="{ color: meaning.faint }">Found, but without such bars: {{ told.without.map((w) => `${w.instrument} (${w.why})`).join(", ") }}</p>
    <first-rows :address="told.forms.address" />
    <h2>The same question in other forms</h2>
    <dl>
      <dt>On the command line</dt>
      <dd><code>{{ told.forms.command }}</code></dd>
      <dt>In a spreadsheet, as a web address to import</dt>
      <dd><code>{{ here(told.forms.spreadsheet) }}</code></dd>
      <dt>In Python</dt>
      <dd><pre>{{ here(told.forms.data_frame) }}</pre></dd>
      <dt>In a file</dt>
      <dd><pre>{{ told.forms.toml }}</pre></dd>
      <template v-if="table">
        <dt>As a query over the bars of an edition, <n-select v-if="tables.length > 1" v-model:value="table" size="tiny" class="table" :options="options(...tables)" /><template v-else>{{ table }}</template></dt>
        <dd><sql-text path="/translation" :query="{ ...asked, edition: table }" /></dd>
      </template>
    </dl>
  </template>
  <saved-table :saved="saved" :question="told?.forms.toml" @take="take" @changed="load" />
</template>

<style scoped>
dt {
  margin-top: 8px;
}
dd {
  margin: 2px 0 0;
}
pre {
  margin: 0;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
code {
  overflow-wrap: anywhere;
}
.table {
  display: inline-block;
  width: 180px;
}
</style>
