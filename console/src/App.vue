<script setup lang="ts">
import { NButton, NConfigProvider, NDialogProvider, NGlobalStyle, NMessageProvider, NAlert } from "naive-ui";
import { computed } from "vue";
import { RouterLink, RouterView, useRoute } from "vue-router";
import { useStatus } from "./composables/live";
import { useMeaning, useOverrides, useTheme } from "./composables/meaning";
import { wall } from "./composables/show";

const { status, trouble, connected, now } = useStatus();
const { dark, theme, toggle } = useTheme();
const meaning = useMeaning();
const zone = computed(() => (status.value?.venues.length === 1 ? status.value.venues[0].zone : "UTC"));
const overrides = useOverrides();
const pages = [
  ["morning", "This morning"],
  ["coverage", "Coverage"],
  ["instruments", "Instruments"],
  ["universes", "Universes"],
  ["chains", "Chains"],
  ["editions", "Editions"],
  ["questions", "Take bars"],
  ["runs", "Runs"],
  ["sources", "Sources"],
  ["trust", "Trust or doubt"],
  ["aside", "Set aside"],
  ["configuration", "Configuration"],
];
const route = useRoute();
// A page stays the same page whatever it is opened on.
const page = computed(() => (route.name === "instrument" ? "instruments" : route.name));
</script>

<template>
  <n-config-provider :theme="theme" :theme-overrides="overrides" :style="{ '--act': meaning.act }">
    <n-global-style />
    <n-dialog-provider>
      <n-message-provider>
        <header :style="{ borderColor: meaning.line }">
          <router-link to="/" class="name">Mizuno</router-link>
          <nav>
            <router-link v-for="[name, title] in pages" :key="name" :to="{ name }" :class="{ here: name === page }">{{ title }}</router-link>
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
header nav a.here {
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
