<script setup lang="ts">
// One request for one instrument: what is asked, what is understood, what is refused. Nothing is kept.
import { NAlert, NButton, NInput, NSelect, NSpace } from "naive-ui";
import { computed, ref } from "vue";
import PlainTable from "../../components/PlainTable.vue";
import { post, type Tried } from "../../composables/api";
import { useMeaning } from "../../composables/meaning";
import { bytes, count } from "../../composables/show";

const props = defineProps<{ sources: readonly string[]; first?: string }>();
const meaning = useMeaning();
const own = "a profile of my own";
const source = ref(props.first ?? props.sources[0] ?? own);
const profile = ref("");
const instrument = ref("KBF");
const interval = ref("");
const tried = ref<Tried>();
const trouble = ref<string>();
const busy = ref(false);
const options = computed(() => [...props.sources, own].map((value) => ({ value, label: value })));

async function go() {
  busy.value = true;
  trouble.value = undefined;
  try {
    const which = source.value === own ? { profile: profile.value } : { source: source.value };
    tried.value = await post<Tried>("/tries", { ...which, instrument: instrument.value.trim(), interval: interval.value.trim() || undefined });
  } catch (error) {
    tried.value = undefined;
    trouble.value = (error as Error).message;
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  <n-space align="center">
    <n-select v-model:value="source" size="small" :options="options" style="width: 190px" />
    <n-input v-model:value="instrument" size="small" placeholder="Instrument" style="width: 150px" />
    <n-input v-model:value="interval" size="small" placeholder="Interval, as 1m" style="width: 140px" />
    <n-button size="small" type="primary" :loading="busy" :disabled="!instrument.trim()" @click="go">Try</n-button>
    <span :style="{ color: meaning.faint }">one request; nothing is kept</span>
  </n-space>
  <n-input v-if="source === own" v-model:value="profile" type="textarea" :rows="10" placeholder="The text of a profile (TOML), as in docs/profile.md" style="margin-top: 8px; font-family: monospace" />
  <n-alert v-if="trouble" type="warning" :show-icon="false" style="margin-top: 10px; white-space: pre-wrap">{{ trouble }}</n-alert>
  <template v-if="tried">
    <p v-for="page in tried.pages" :key="page.request"><code>{{ page.request }}</code><br />{{ page.status ? `status ${page.status}, ${page.media_type ?? "no media type"}, ${bytes(page.bytes)}` : "no answer" }}</p>
    <p v-if="tried.key">key: <code>{{ tried.key }}</code></p>
    <pre class="payload">{{ tried.first_lines.join("\n") }}</pre>
    <p v-if="tried.failure" :style="{ color: meaning.missing }"><b>{{ tried.failure }}</b>: {{ tried.message }}</p>
    <p v-else>{{ count(tried.rows) }} rows understood: {{ count(tried.sound) }} sound, {{ tried.unfinished }} not finished, <b :style="tried.refused_count ? { color: meaning.missing } : {}">{{ count(tried.refused_count) }} refused</b></p>
    <p v-for="hint in tried.hints" :key="hint" :style="{ color: meaning.missing }">➜ {{ hint }}</p>
    <plain-table v-if="tried.bars.length" :headers="[`Time (${tried.zone})`, 'Open', 'High', 'Low', 'Close', 'Volume']" :numbers="[1, 2, 3, 4, 5]">
      <tr v-for="bar in tried.bars.slice(0, 8)" :key="bar.time">
        <td>{{ bar.time }}</td>
        <td class="number">{{ bar.open }}</td>
        <td class="number">{{ bar.high }}</td>
        <td class="number">{{ bar.low }}</td>
        <td class="number">{{ bar.close }}</td>
        <td class="number">{{ bar.volume ?? "absent" }}</td>
      </tr>
    </plain-table>
    <plain-table v-if="tried.refused.length" :headers="['Line', 'Refused because', 'Row']" :numbers="[0]">
      <tr v-for="row in tried.refused" :key="row.line">
        <td class="number">{{ row.line }}</td>
        <td class="wrap">{{ row.because }}</td>
        <td><code>{{ row.text }}</code></td>
      </tr>
    </plain-table>
  </template>
</template>
