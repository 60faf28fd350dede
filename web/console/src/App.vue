<script setup lang="ts">
import { RouterLink, RouterView } from 'vue-router'
import { keepCollections } from './useCollections'

keepCollections()
</script>

<template>
  <div class="app">
    <header>
      <img src="/favicon.svg" alt="" width="26" height="26" />
      <h1>Idle Beacon</h1>
      <nav aria-label="Pages">
        <RouterLink to="/">Map</RouterLink>
        <RouterLink to="/data">Data</RouterLink>
      </nav>
    </header>
    <RouterView v-slot="{ Component }">
      <KeepAlive include="MapPage">
        <component :is="Component" />
      </KeepAlive>
    </RouterView>
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
nav {
  display: flex;
  gap: 0.3rem;
  margin-inline-start: 1rem;
}
a {
  padding: 0.25rem 0.8rem;
  border-radius: 6px;
  color: inherit;
  text-decoration: none;
}
a:hover {
  background: rgb(255 255 255 / 12%);
}
.router-link-exact-active {
  background: rgb(255 255 255 / 18%);
  font-weight: 600;
}
</style>
