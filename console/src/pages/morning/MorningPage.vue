<script setup lang="ts">
// Is everything all right this morning?
import { NButton, NCard, NEmpty, NGrid, NGridItem, NStatistic, useMessage } from "naive-ui";
import { computed, nextTick, ref, watch } from "vue";
import { useRoute } from "vue-router";
import HoleList from "../../components/HoleList.vue";
import PlainTable from "../../components/PlainTable.vue";
import SourceTable from "../../components/SourceTable.vue";
import { get, post, type Collector, type Gap, type Hole } from "../../composables/api";
import { useRefreshOn, useStatus } from "../../composables/live";
import { useMeaning } from "../../composables/meaning";
import { bytes, count, percent, wall } from "../../composables/show";
import ConcernList from "./ConcernList.vue";

const { status, refresh } = useStatus();
const meaning = useMeaning();
const message = useMessage();
const route = useRoute();
const gaps = ref<Gap[]>();
const holes = ref<Hole[]>([]);
/** The cause that a concern speaks of. */
const cause = computed(() => (route.query.cause ? String(route.query.cause) : undefined));
const missing = ref<HTMLElement>();
const zone = computed(() => (status.value?.venues.length === 1 ? status.value.venues[0].zone : "UTC"));
const shown = 12;
/** Worst first: what failed or cannot be true before what merely waits to be asked for. */
const order = ["fetch-failed", "quarantined", "left-out", "source-had-nothing", "never-asked"];
const rank = (gap: Gap) => (order.indexOf(gap.cause) + order.length) % order.length;

async function load() {
  try {
    const which = { most: 1000, cause: cause.value };
    const [found, together] = await Promise.all([get<Gap[]>("/gaps", which), get<Hole[]>("/holes", which)]);
    holes.value = together;
    gaps.value = found.sort((a, b) => rank(a) - rank(b) || b.slots - a.slots);
  } catch (error) {
    message.error((error as Error).message);
  }
}
watch(
  cause,
  async () => {
    await load();
    await nextTick();
    if (cause.value) missing.value?.scrollIntoView({ behavior: "smooth" });
  },
  { immediate: true },
);
useRefreshOn((event) => event.event !== "fetch", load);

async function collect(collector: Pick<Collector, "name">) {
  try {
    await post("/runs", { collector: collector.name });
    await refresh();
  } catch (error) {
    message.error((error as Error).message, { duration: 8000, closable: true });
  }
}
const needed = computed(() => status.value?.concerns.filter((c) => c.needs_a_person).length ?? 0);
const known = computed(() => (status.value?.concerns.length ?? 0) - needed.value);
const state = (c: Pick<Collector, "late" | "last">) => (c.late ? "late" : (c.last?.state ?? "never ran"));
</script>

<template>
  <template v-if="status">
    <section class="answer" :style="{ borderColor: needed ? meaning.missing : meaning.held }">
      <h1 v-if="status.all_clear">✓ All clear</h1>
      <h1 v-else-if="needed">{{ needed }} {{ needed === 1 ? "thing needs" : "things need" }} a person<template v-if="known">{{ `, ${known} more to know` }}</template></h1>
      <h1 v-else>Nothing needs a person</h1>
      <p v-if="status.all_clear">Nothing is late, failed, missing, in quarantine, suspicious or restated.</p>
      <concern-list v-else :concerns="status.concerns" @changed="refresh" />
    </section>

    <n-grid cols="2 s:4" responsive="screen" :x-gap="12" :y-gap="12" style="margin-top: 16px">
      <n-grid-item v-for="venue in status.venues" :key="venue.code">
        <n-card size="small">
          <n-statistic :label="venue.name" :value="venue.open ? 'Open' : 'Closed'" />
          <span :style="{ color: meaning.faint }" v-if="venue.closes && venue.opens">{{ venue.open ? `until ${wall(venue.closes, venue.zone).slice(11)}` : `opens ${wall(venue.opens, venue.zone)}` }}</span>
        </n-card>
      </n-grid-item>
      <n-grid-item>
        <n-card size="small">
          <n-statistic label="Bars held" :value="count(status.totals.bars)" />
          <span :style="{ color: meaning.faint }">{{ count(status.totals.series) }} series, {{ bytes(status.totals.database_bytes) }} on disk</span>
        </n-card>
      </n-grid-item>
    </n-grid>

    <h2 id="collectors">Collectors</h2>
    <plain-table :headers="['Collector', 'State', 'Last run', 'Next', 'Zone', 'Complete', 'Missing', 'Schedule', '']" :numbers="[5, 6]">
      <tr v-for="c in status.collectors" :key="c.name">
        <td>
          <router-link class="link" :to="{ name: 'coverage', query: { interval: c.interval } }">{{ c.name }}</router-link>
        </td>
        <td :style="c.late ? { color: meaning.missing, fontWeight: 600 } : {}">
          <router-link v-if="c.last" :to="{ name: 'runs', params: { id: c.last.id } }">{{ state(c) }}<template v-if="c.last.state === 'running' && c.last.windows">{{ ` ${c.last.done + c.last.failed} of ${c.last.windows}` }}</template></router-link>
          <template v-else>{{ state(c) }}</template>
        </td>
        <td>{{ c.last ? wall(c.last.started_at, c.zone) : "–" }}</td>
        <td :title="[c.next, ...c.then].filter((t) => t).map((t) => wall(t!, c.zone)).join(', ')">{{ c.next ? wall(c.next, c.zone) : "–" }}</td>
        <td>{{ c.zone }}</td>
        <td class="number">{{ percent(c.completeness) }}</td>
        <td class="number" :style="c.completeness.missing ? { color: meaning.missing, fontWeight: 600 } : {}">{{ count(c.completeness.missing) }}</td>
        <td>{{ c.schedule }}</td>
        <td><n-button size="tiny" :disabled="c.last?.state === 'running'" @click="collect(c)">Collect now</n-button></td>
      </tr>
    </plain-table>

    <h2>Sources</h2>
    <source-table :sources="status.sources" :zone="zone" />

    <h2 v-if="gaps?.length || cause" ref="missing" data-missing>Missing<template v-if="cause">, {{ cause }} · <router-link class="link" to="/">all causes</router-link></template><template v-else>, worst first</template></h2>
    <n-empty v-if="cause && gaps?.length === 0" description="Nothing is missing for this cause" />
    <hole-list v-if="gaps?.length" v-slot="{ more }" :holes="holes" :gaps="gaps" :most="shown" @changed="(load(), refresh())">
      <p :style="{ color: meaning.faint }">and {{ more }} more; <router-link class="link" to="/coverage">see the coverage</router-link></p>
    </hole-list>
    <n-empty v-if="status.collectors.length === 0" description="No collector is configured yet: put one into collectors/ and start again" />
  </template>
  <p v-else :style="{ color: meaning.faint }">Looking at every series…</p>
</template>

<style scoped>
.answer {
  border-left: 5px solid;
  padding: 2px 16px;
}
.answer h1 {
  font-size: 24px;
  margin: 4px 0 6px;
}
</style>
