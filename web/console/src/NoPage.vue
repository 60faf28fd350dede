<script setup lang="ts">
import { RouterLink } from 'vue-router'
</script>

<template>
  <main>
    <h1 tabindex="-1">There is no such page</h1>
    <p>The address may be mistyped. <RouterLink to="/">Go to the map</RouterLink></p>
  </main>
</template>

<style scoped>
main {
  padding: 1rem;
}
</style>
