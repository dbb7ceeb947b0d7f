import { createApp } from "vue";
import { createRouter, createWebHistory } from "vue-router";
import App from "./App.vue";

const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: "/", name: "morning", component: () => import("./pages/morning/MorningPage.vue") },
    { path: "/coverage", name: "coverage", component: () => import("./pages/coverage/CoveragePage.vue") },
    { path: "/instruments/:symbol", name: "instrument", component: () => import("./pages/instrument/InstrumentPage.vue") },
    { path: "/instruments", name: "instruments", component: () => import("./pages/instruments/InstrumentsPage.vue") },
    { path: "/editions/:spec?/:which?", name: "editions", component: () => import("./pages/editions/EditionsPage.vue") },
    { path: "/chains/:name?", name: "chains", component: () => import("./pages/chains/ChainsPage.vue") },
    { path: "/universes/:name?", name: "universes", component: () => import("./pages/universes/UniversesPage.vue") },
    { path: "/questions", name: "questions", component: () => import("./pages/questions/QuestionsPage.vue") },
    { path: "/sources", name: "sources", component: () => import("./pages/sources/SourcesPage.vue") },
    { path: "/configuration", name: "configuration", component: () => import("./pages/configuration/ConfigurationPage.vue") },
    { path: "/trust", name: "trust", component: () => import("./pages/trust/TrustPage.vue") },
    { path: "/aside", name: "aside", component: () => import("./pages/aside/AsidePage.vue") },
    { path: "/runs/:id?", name: "runs", component: () => import("./pages/runs/RunsPage.vue") },
    { path: "/:rest(.*)", name: "unknown", component: () => import("./pages/unknown/UnknownPage.vue") },
  ],
});

createApp(App).use(router).mount("#app");
