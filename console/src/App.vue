<script setup lang="ts">
import { NButton, NConfigProvider, NDialogProvider, NGlobalStyle, NMessageProvider, NAlert } from "naive-ui";
import { computed } from "vue";
import { RouterLink, RouterView } from "vue-router";
import { useStatus } from "./composables/live";
import { useMeaning, useOverrides, useTheme } from "./composables/meaning";
import { wall } from "./composables/show";

const { status, trouble, connected, now } = useStatus();
const { dark, theme, toggle } = useTheme();
const meaning = useMeaning();
const zone = computed(() => (status.value?.venues.length === 1 ? status.value.venues[0].zone : "UTC"));
const overrides = useOverrides();
</script>

<template>
  <n-config-provider :theme="theme" :theme-overrides="overrides" :style="{ '--act': meaning.act }">
    <n-global-style />
    <n-dialog-provider>
      <n-message-provider>
        <header :style="{ borderColor: meaning.line }">
          <router-link to="/" class="name">Mizuno</router-link>
          <nav>
            <router-link :to="{ name: 'morning' }">This morning</router-link>
            <router-link :to="{ name: 'coverage' }">Coverage</router-link>
            <router-link :to="{ name: 'instruments' }">Instruments</router-link>
            <router-link :to="{ name: 'universes' }">Universes</router-link>
            <router-link :to="{ name: 'chains' }">Chains</router-link>
            <router-link :to="{ name: 'editions' }">Editions</router-link>
            <router-link :to="{ name: 'questions' }">Take bars</router-link>
            <router-link :to="{ name: 'runs' }">Runs</router-link>
            <router-link :to="{ name: 'sources' }">Sources</router-link>
            <router-link :to="{ name: 'trust' }">Trust or doubt</router-link>
            <router-link :to="{ name: 'aside' }">Set aside</router-link>
            <router-link :to="{ name: 'configuration' }">Configuration</router-link>
          </nav>
          <span class="right" :style="{ color: meaning.faint }">
            <span v-if="status" class="desk">{{ status.desk }}</span>
            <span v-if="now" class="clock">{{ wall(now, zone) }} {{ zone }}</span>
            <span :title="connected ? 'events arrive as they happen' : 'not connected to the events'">{{ connected ? "● live" : "○ not live" }}</span>
            <n-button size="tiny" quaternary @click="toggle">{{ dark ? "Light" : "Dark" }}</n-button>
          </span>
        </header>
        <main>
          <n-alert v-if="trouble" type="warning" :show-icon="false" class="trouble">{{ trouble }}</n-alert>
          <router-view />
        </main>
      </n-message-provider>
    </n-dialog-provider>
  </n-config-provider>
</template>

<style>
body {
  font-variant-numeric: tabular-nums;
}
header {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 6px 14px;
  padding: 10px 20px;
  border-bottom: 1px solid;
}
header .name {
  font-weight: 700;
  font-size: 17px;
  letter-spacing: 0.02em;
}
header a,
main a {
  color: inherit;
  text-decoration: none;
}
header nav {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 9px;
  font-size: 13px;
}
header nav a.router-link-exact-active {
  border-bottom: 2px solid var(--act);
}
header .right {
  margin-left: auto;
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 4px 10px;
  font-size: 12.5px;
}
@media (max-width: 1380px) {
  header .desk {
    display: none;
  }
}
main {
  padding: 16px 20px 40px;
  max-width: 1500px;
  margin: 0 auto;
}
main h2 {
  margin: 22px 0 8px;
  font-size: 16px;
}
a.link {
  color: var(--act);
}
.trouble {
  margin-bottom: 14px;
}
.scroll {
  overflow-x: auto;
}
code {
  font-size: 12.5px;
}
pre.payload {
  overflow-x: auto;
  padding: 10px;
  font-size: 12px;
  border: 1px solid rgba(128, 128, 128, 0.3);
}
</style>
