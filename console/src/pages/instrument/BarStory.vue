<script setup lang="ts">
// Where a bar came from: its versions, the fetch of each, and the very line in its payload.
import { NDrawer, NDrawerContent, useMessage } from "naive-ui";
import { computed, ref, watch } from "vue";
import { get, type BarVersion } from "../../composables/api";
import { numbers, wall } from "../../composables/show";

const props = defineProps<{ series: string; at: string; zone: string }>();
const emit = defineEmits<{ close: [] }>();
const message = useMessage();
const versions = ref<BarVersion[]>([]);
watch(
  () => [props.series, props.at],
  async () => {
    try {
      versions.value = await get<BarVersion[]>("/lineage", { series: props.series, at: props.at });
    } catch (error) {
      message.error((error as Error).message, { duration: 8000, closable: true });
    }
  },
  { immediate: true },
);
// Few sources tell the open interest.
const told = computed(() => numbers.filter((_, i) => i < 5 || versions.value.some((v) => v.values[i] != null)));
const changed = (n: number, i: number) => n > 0 && versions.value[n].values[i] !== versions.value[n - 1].values[i];
</script>

<template>
  <n-drawer show :width="620" style="max-width: 95vw" @update:show="emit('close')">
    <n-drawer-content :title="`${series} ${at.includes('T') ? `${wall(at, zone)} ${zone}` : at}`" closable>
      <section v-for="(v, n) in versions" :key="v.recorded_at" data-version>
        <h3>Version {{ n + 1 }} of {{ versions.length }}, recorded {{ wall(v.recorded_at, zone, true) }} {{ zone }}</h3>
        <p>
          <span v-for="(name, i) in told" :key="name" class="value">{{ name }} <b :class="{ changed: changed(n, i) }">{{ v.values[i] ?? "absent" }}</b></span>
        </p>
        <p>Fetch {{ v.fetch }} of <router-link class="link" :to="{ name: 'runs', params: { id: v.run } }">run {{ v.run }}</router-link>: <code>{{ v.request }}</code></p>
        <template v-if="v.text != null">
          <p>Page {{ v.page }}, line {{ v.line }}:</p>
          <pre>{{ v.text }}</pre>
        </template>
        <p v-else>Its line is not found with the profile as it is now.</p>
        <p v-if="v.payload"><a class="link" :href="`/api/v1/fetches/${v.fetch}/payload?page=${v.page ?? 1}`">The exact bytes</a>, SHA-256 <code style="word-break: break-all">{{ v.payload }}</code></p>
      </section>
    </n-drawer-content>
  </n-drawer>
</template>

<style scoped>
h3 {
  font-size: 14px;
}
.value {
  margin-right: 14px;
}
.changed {
  text-decoration: underline;
}
pre {
  overflow-x: auto;
  padding: 8px;
  font-size: 12px;
  border: 1px solid rgba(128, 128, 128, 0.3);
}
</style>
