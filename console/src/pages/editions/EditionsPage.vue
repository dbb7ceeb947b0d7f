<script setup lang="ts">
// Editions: sets of files that never change. What there is, what is due and what holds it up; one edition with its files and differences.
import { NAlert, NButton, NEmpty, NPopconfirm, NProgress, NTag, useMessage } from "naive-ui";
import { computed, onScopeDispose, ref, watch } from "vue";
import { RouterLink, useRoute, useRouter } from "vue-router";
import DecisionDialog from "../../components/DecisionDialog.vue";
import PlainTable from "../../components/PlainTable.vue";
import SqlText from "../../components/SqlText.vue";
import { get, post, type Edition, type EditionDifference, type EditionSpec, type EditionTold, type EditionVerdict } from "../../composables/api";
import { useRefreshOn, useStatus } from "../../composables/live";
import { useMeaning } from "../../composables/meaning";
import { bytes, count, wall } from "../../composables/show";

const route = useRoute();
const router = useRouter();
const message = useMessage();
const meaning = useMeaning();
const { status } = useStatus();
const specs = ref<EditionSpec[]>();
const all = ref<Edition[]>([]);
const told = ref<EditionTold>();
const difference = ref<EditionDifference>();
const verdict = ref<EditionVerdict>();
const verifying = ref(false);
/** Editions that the spec does not keep and that are still here. */
const outlived = ref<Edition[]>([]);
/** Whether the statements for SQL engines are shown. */
const engines = ref(false);
/** What a person is deciding. */
const deciding = ref<"make" | "pin" | "withdraw">();
/** The one that is asked for, else the first that there is something of. */
const spec = computed(() => String(route.params.spec ?? "") || (specs.value?.find((s) => s.latest) ?? specs.value?.[0])?.name || "");
const which = computed(() => String(route.params.which ?? ""));
const described = computed(() => specs.value?.find((s) => s.name === spec.value));
const zone = computed(() => (status.value?.venues.length === 1 ? status.value.venues[0].zone : "UTC"));
const path = (edition: Edition) => `/editions/${encodeURIComponent(edition.spec)}/${edition.number}`;
const shown = 200;

async function load() {
  try {
    specs.value = await get<EditionSpec[]>("/editions");
    all.value = spec.value ? await get<Edition[]>(`/editions/${encodeURIComponent(spec.value)}`) : [];
    const chosen = which.value || all.value.find((e) => e.state === "made")?.number;
    // While one is being made this is asked every moment, and making ends with taking away.
    if (!described.value?.making) outlived.value = described.value?.keep ? await expire(true) : [];
    told.value = chosen ? await get<EditionTold>(`/editions/${encodeURIComponent(spec.value)}/${encodeURIComponent(String(chosen))}`) : undefined;
  } catch (error) {
    message.error((error as Error).message, { duration: 8000, closable: true });
  }
}
watch(
  () => [route.params.spec, route.params.which],
  () => {
    [difference.value, verdict.value, engines.value] = [undefined, undefined, false];
    void load();
  },
  { immediate: true },
);
useRefreshOn((event) => event.event === "editions", load);
/** While one is being made, how far it is. */
const timer = setInterval(() => all.value.some((e) => e.state === "making") && void load(), 700);
onScopeDispose(() => clearInterval(timer));

async function act(deed: () => Promise<void>) {
  try {
    await deed();
    await load();
  } catch (error) {
    message.error((error as Error).message, { duration: 8000, closable: true });
  }
}
/** What making it again has shown. */
function madeAgain(v: EditionVerdict): string {
  if (!v.again) return "";
  if (!v.differ.length) return ", and made again they are the same";
  return `. Version ${v.other_program} made it: made again, ${v.differ.join(", ")} ${v.differ.length === 1 ? "has" : "have"} other bytes and the same contents`;
}
const compare = () => act(async () => void (difference.value = await get<EditionDifference>(`${path(told.value!)}/difference`)));
async function verify(again: boolean) {
  verifying.value = true;
  await act(async () => void (verdict.value = await post<EditionVerdict>(`${path(told.value!)}/verify`, { again })));
  verifying.value = false;
}
const expire = (preview: boolean) => post<Edition[]>(`/editions/${encodeURIComponent(spec.value)}/expire?preview=${preview}`, undefined);
const cancel = (edition: Edition) => act(async () => void (await post(`${path(edition)}/decision`, { to: "cancel", by: "console" })));
const unpin = () => act(async () => void (await post(`${path(told.value!)}/decision`, { to: "unpin", by: "console" })));
async function make(by: string) {
  const made = await post<Edition>(`/editions/${encodeURIComponent(spec.value)}`, { by });
  await router.push({ name: "editions", params: { spec: made.spec, which: made.number } });
}
const because = (e: Edition) => (e.due ? `due ${wall(e.due, zone.value)}` : `asked for by ${e.asked_by}`);
const address = (file: string) => `/api/v1${path(told.value!)}/files/${file}`;
const columns = (all: Record<string, number>) => Object.entries(all).map(([name, n]) => `${name} ${count(n)}`).join(", ");
</script>

<template>
  <n-empty v-if="specs && !specs.length" description="No edition is configured; docs/editions.md tells what stands in editions/NAME.toml" />
  <template v-else-if="specs">
    <h2>Editions</h2>
    <plain-table :headers="['Edition', `Next (${zone})`, 'Latest', 'Kept', 'Title', 'Made']" :numbers="[3]">
      <tr v-for="s in specs" :key="s.name" :class="{ chosen: s.name === spec }">
        <td><router-link class="link" :to="{ name: 'editions', params: { spec: s.name } }">{{ s.name }}</router-link></td>
        <td class="wrap">
          <template v-if="s.held_up"><n-tag size="small" :bordered="false">held up</n-tag> {{ s.held_up.why.join("; ") }}</template>
          <template v-else-if="s.making">being made</template>
          <template v-else>{{ s.next ? wall(s.next, zone) : "when asked" }}</template>
        </td>
        <td>{{ s.latest ? `${s.latest.number} (${s.latest.label})` : "none yet" }}</td>
        <td class="number">{{ count(s.editions) }}</td>
        <td class="wrap">{{ s.title }}</td>
        <td class="wrap">{{ s.when }}</td>
      </tr>
    </plain-table>
    <template v-if="described">
      <n-alert v-if="described.storage_behind" type="warning" :show-icon="false">Its object storage is behind: {{ described.storage_behind }}. It is tried again by itself.</n-alert>
      <h2>{{ described.title }}</h2>
      <p><n-button size="small" :disabled="!!described.making" @click="deciding = 'make'">Make one now…</n-button></p>
      <p v-if="outlived.length">
        The newest {{ described.keep }} {{ described.keep === 1 ? "is" : "are" }} kept; {{ outlived.map((e) => e.number).join(", ") }} {{ outlived.length === 1 ? "is" : "are" }} still here.
        <n-popconfirm positive-text="Take them away" negative-text="Leave them" @positive-click="act(async () => void (await expire(false)))">
          <template #trigger><n-button size="small">Take away…</n-button></template>
          Their files are taken away. Their records stay, and they can be made again.
        </n-popconfirm>
      </p>
      <n-empty v-if="!all.length" description="None was made yet" />
      <plain-table v-else :headers="['Number', 'Label', `As of (${zone})`, 'Made because', 'State']" :numbers="[0]">
        <tr v-for="e in all.slice(0, shown)" :key="e.number" :class="{ chosen: e.number === told?.number }">
          <td class="number"><router-link class="link" :to="{ name: 'editions', params: { spec: e.spec, which: e.number } }">{{ e.number }}</router-link></td>
          <td>{{ e.label }}</td>
          <td>{{ wall(e.as_of, zone) }}</td>
          <td>{{ because(e) }}</td>
          <td class="wrap">
            <template v-if="e.progress">
              <n-progress type="line" :percentage="e.progress.files ? Math.floor((100 * e.progress.done) / e.progress.files) : 0" class="progress" />
              {{ count(e.progress.done) }} of {{ count(e.progress.files) }} files, {{ count(e.progress.rows) }} rows
              <n-button size="tiny" @click="cancel(e)">Cancel</n-button>
            </template>
            <template v-else>
              {{ e.state }}<template v-if="e.withdrawn"> by {{ e.withdrawn.by }}: {{ e.withdrawn.why }}</template>
              <template v-else-if="e.pinned">, kept by {{ e.pinned.by }}: {{ e.pinned.why }}</template>
              <template v-if="e.remark">; {{ e.remark }}</template>
            </template>
          </td>
        </tr>
      </plain-table>
    </template>
    <template v-if="told && told.state !== 'making'">
      <h2>{{ told.spec }}/{{ told.number }} ({{ told.label }})</h2>
      <p>
        {{ count(told.content.length) }} files, {{ bytes(told.bytes) }}<template v-if="told.before">, of which {{ bytes(told.linked_bytes) }} are those of {{ told.before }}</template>.
        <template v-if="told.state === 'made'">
          <a class="link" :href="address('index.html')" target="_blank">Its own page</a>
          <template v-if="told.published">. Published to {{ told.published.to }}, {{ wall(told.published.at, zone) }}.</template>
        </template>
      </p>
      <p v-if="told.state === 'made'" class="deeds">
        <n-button size="small" :loading="verifying" @click="verify(false)">Verify</n-button>
        <n-button size="small" :loading="verifying" @click="verify(true)">Make again and compare</n-button>
        <n-button v-if="told.before" size="small" @click="compare">Differences from {{ told.before }}</n-button>
        <n-button v-if="described?.table" size="small" @click="engines = !engines">For SQL engines</n-button>
        <n-button v-if="told.pinned" size="small" @click="unpin">Let it expire</n-button>
        <n-button v-else size="small" @click="deciding = 'pin'">Keep it…</n-button>
        <n-button size="small" @click="deciding = 'withdraw'">Withdraw…</n-button>
      </p>
      <template v-if="engines">
        <p>These statements make its tables known to an engine. A question as a query is on the page <router-link class="link" :to="{ name: 'questions' }">Take bars</router-link>.</p>
        <sql-text :path="`${path(told)}/tables`" />
      </template>
      <p v-if="verdict" class="verdict">
        <template v-if="verdict.sound">{{ count(verdict.files) }} files are as they were made{{ madeAgain(verdict) }}.</template>
        <template v-else>
          <b>Not as it was made:</b>
          <span v-for="(what, file) in verdict.damaged" :key="file"> {{ file }}: {{ what }};</span>
          <span v-for="file in verdict.differ" :key="file"> {{ file }} {{ verdict.same_contents.includes(file) ? "has other bytes and the same contents" : "comes out otherwise" }};</span>
        </template>
      </p>
      <template v-if="difference">
        <h2>From {{ difference.from.number }} ({{ difference.from.label }}) to {{ difference.to.number }} ({{ difference.to.label }})</h2>
        <p>{{ count(difference.same) }} files are the same, {{ count(difference.changed.length) }} changed, {{ count(difference.new.length) }} are new, {{ count(difference.gone.length) }} are gone.</p>
        <plain-table v-if="difference.rows.length" :headers="['Question', 'Rows', 'Change', 'Because of', 'In columns']" :numbers="[1]">
          <tr v-for="r in difference.rows" :key="r.question + r.change + r.cause">
            <td>{{ r.question }}</td>
            <td class="number">{{ count(r.rows) }}</td>
            <td>{{ r.change }}</td>
            <td>{{ r.cause }}</td>
            <td class="wrap">{{ columns(r.columns) }}</td>
          </tr>
        </plain-table>
      </template>
      <plain-table v-if="told.content.length" :headers="['File', 'Rows', 'Bytes', 'SHA-256', 'Made']" :numbers="[1, 2]">
        <tr v-for="f in told.content.slice(0, shown)" :key="f.path">
          <td><a v-if="told.state === 'made'" class="link" :href="address(f.path)">{{ f.path }}</a><template v-else>{{ f.path }}</template></td>
          <td class="number">{{ f.rows ? count(f.rows) : "" }}</td>
          <td class="number">{{ bytes(f.bytes) }}</td>
          <td class="sum" :title="f.sha256">{{ f.sha256.slice(0, 12) }}</td>
          <td>{{ f.linked ? "as before" : "new" }}</td>
        </tr>
      </plain-table>
      <p v-if="told.content.length > shown" :style="{ color: meaning.faint }">And {{ count(told.content.length - shown) }} more; SHA256SUMS lists all of them.</p>
    </template>
  </template>
  <decision-dialog v-if="deciding === 'make'" :title="`Make an edition of ${spec} now`" yes="Make it" :take="make" @close="deciding = undefined" @done="((deciding = undefined), load())">
    It is made as things stand, whatever its spec wants to hold before.
  </decision-dialog>
  <decision-dialog
    v-if="(deciding === 'pin' || deciding === 'withdraw') && told"
    :title="deciding === 'pin' ? `Keep ${told.spec}/${told.number}` : `Withdraw ${told.spec}/${told.number}`"
    :yes="deciding === 'pin' ? 'Keep it' : 'Withdraw it'"
    why
    :take="(by, why) => post(`${path(told!)}/decision`, { to: deciding, by, why })"
    @close="deciding = undefined"
    @done="((deciding = undefined), load())"
  >
    {{ deciding === "pin" ? "It stays when others expire." : "Its files are served to nobody any more. Whoever asks for them reads the reason." }}
  </decision-dialog>
</template>

<style scoped>
.deeds {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
}
.progress {
  width: 160px;
  display: inline-block;
}
.sum {
  font-family: monospace;
}
.chosen td {
  font-weight: 600;
}
</style>
