<script setup lang="ts">
// Universes: who belongs, who joined and left when, and what is in doubt.
import { NAlert, NEmpty, NInput, useMessage } from "naive-ui";
import { computed, ref, watch } from "vue";
import { RouterLink, useRoute, useRouter } from "vue-router";
import PlainTable from "../../components/PlainTable.vue";
import { get, type Universe, type UniverseTold } from "../../composables/api";
import { useRefreshOn } from "../../composables/live";
import { useMeaning } from "../../composables/meaning";
import { count } from "../../composables/show";
import StayLines from "./StayLines.vue";

const route = useRoute();
const router = useRouter();
const message = useMessage();
const meaning = useMeaning();
const all = ref<Universe[]>();
const told = ref<UniverseTold>();
const on = ref(String(route.query.on ?? ""));
const words = ref("");
const name = computed(() => String(route.params.name ?? "") || all.value?.[0]?.name || "");

async function load() {
  try {
    all.value = await get<Universe[]>("/universes");
    told.value = name.value ? await get<UniverseTold>(`/universes/${encodeURIComponent(name.value)}`, { on: on.value }) : undefined;
  } catch (error) {
    message.error((error as Error).message, { duration: 8000, closable: true });
  }
}
watch(() => route.params.name, load, { immediate: true });
useRefreshOn((event) => event.event === "lists", load);
function ask() {
  void router.replace({ query: on.value ? { on: on.value } : {} });
  void load();
}

/** Members drawn at once; more are found by their letters. */
const most = 60;
const found = computed(() => {
  const wanted = words.value.trim().toLowerCase();
  return told.value?.memberships.filter((m) => !wanted || `${m.instrument} ${m.name} ${m.called}`.toLowerCase().includes(wanted)) ?? [];
});
const symbols = computed(() => new Set(found.value.map((m) => m.instrument)));
const drawn = computed(() => {
  const first = new Set([...symbols.value].slice(0, most));
  return found.value.filter((m) => first.has(m.instrument));
});
const changes = computed(() => told.value?.changes.slice(0, 30) ?? []);
</script>

<template>
  <n-empty v-if="all && !all.length" description="No universe is configured; docs/universes.md tells what stands in universes/NAME.toml" />
  <template v-else-if="all">
    <h2>Universes</h2>
    <plain-table :headers="['Universe', 'Title', 'Members', 'Ever', 'Doubts', 'Made of']" :numbers="[2, 3]">
      <tr v-for="u in all" :key="u.name">
        <td><router-link class="link" :to="{ name: 'universes', params: { name: u.name } }">{{ u.name }}</router-link></td>
        <td>{{ u.title }}</td>
        <td class="number">{{ count(u.members) }}</td>
        <td class="number">{{ count(u.ever) }}</td>
        <td><template v-if="u.unresolved">{{ u.unresolved }} names unknown </template><template v-if="u.doubts">{{ u.doubts }} told</template><template v-if="!u.unresolved && !u.doubts">none</template></td>
        <td class="wrap">{{ u.made_of }}</td>
      </tr>
    </plain-table>
    <template v-if="told">
      <h2>{{ told.title }}</h2>
      <p>
        {{ count(told.members.length) }} members on {{ told.on }}<template v-if="told.members.length && told.members.length <= 60">: {{ told.members.join(", ") }}</template>.
        <template v-if="told.known_from"> Who belonged before {{ told.known_from }} is not known: the list shows the members of the day.</template>
      </p>
      <p class="keys">
        <n-input v-model:value="on" size="small" style="width: 170px" placeholder="on, as 2024-06-28" :input-props="{ name: 'on' }" @keyup.enter="ask" />
        <n-input v-model:value="words" size="small" style="width: 200px" placeholder="symbol or name" :input-props="{ name: 'words' }" />
        <router-link class="link" :to="{ name: 'questions', query: { universe: told.name, layout: 'wide', columns: 'date,close' } }">take its bars</router-link>
      </p>
      <n-alert v-if="told.unresolved.length" type="warning" :show-icon="false" title="Names that are no instruments of ours">
        <div v-for="u in told.unresolved" :key="u.said">{{ u.said }} by {{ u.by }}, {{ u.days }}: {{ u.hint }}</div>
      </n-alert>
      <n-alert v-if="told.conflicts.length + told.unread.length" type="warning" :show-icon="false" title="Told otherwise, or not understood">
        <div v-for="line in [...told.conflicts, ...told.unread]" :key="line">{{ line }}</div>
      </n-alert>
      <stay-lines v-if="drawn.length" :memberships="drawn" :on="told.on" />
      <p v-if="symbols.size > most" :style="{ color: meaning.faint }">{{ count(symbols.size - most) }} more members; find them by symbol or name.</p>
      <h2>Joined and left</h2>
      <n-empty v-if="!changes.length" description="Nobody has joined or left" />
      <plain-table v-else :headers="['Date', 'Joined', 'Left', 'Members then']" :numbers="[3]">
        <tr v-for="c in changes" :key="c.date">
          <td>{{ c.date }}</td>
          <td class="wrap">{{ c.joined.join(", ") || "-" }}</td>
          <td class="wrap">{{ c.left.join(", ") || "-" }}</td>
          <td class="number">{{ count(c.members) }}</td>
        </tr>
      </plain-table>
      <p v-if="told.changes.length > changes.length" :style="{ color: meaning.faint }">{{ count(told.changes.length - changes.length) }} older changes; mizuno universe {{ told.name }} has them.</p>
      <template v-if="told.without.length">
        <h2>Without daily bars</h2>
        <plain-table :headers="['Instrument', 'Why']">
          <tr v-for="w in told.without" :key="w.instrument">
            <td>{{ w.instrument }}</td>
            <td class="wrap">{{ w.why }}</td>
          </tr>
        </plain-table>
      </template>
    </template>
  </template>
</template>

<style scoped>
.keys {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 8px 12px;
}
.n-alert {
  margin-bottom: 10px;
}
</style>
