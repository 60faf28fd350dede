<script setup lang="ts">
import MapPage from './MapPage.vue'
</script>

<template>
  <div class="app">
    <header>
      <img src="/favicon.svg" alt="" width="26" height="26" />
      <h1>Idle Beacon</h1>
    </header>
    <MapPage />
  </div>
</template>

<style scoped>
.app {
  height: 100%;
  display: flex;
  flex-direction: column;
}
header {
  display: flex;
  align-items: center;
  gap: 0.6rem;
  padding: 0.4rem 0.9rem;
  background: var(--bar);
  color: var(--on-bar);
}
h1 {
  font-size: 1.05rem;
  font-weight: 600;
}
</style>
