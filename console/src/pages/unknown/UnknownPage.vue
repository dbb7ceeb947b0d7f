<script setup lang="ts">
// An address that the console does not have: a mistyped one, or one from another version.
import { NEmpty } from "naive-ui";
import { RouterLink, useRoute } from "vue-router";

const route = useRoute();
</script>

<template>
  <n-empty :description="`The console has no page ${route.path}`">
    <template #extra>
      Choose one above, or go to <router-link class="link" to="/">this morning</router-link>.
    </template>
  </n-empty>
</template>
