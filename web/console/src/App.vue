<script setup lang="ts">
import { defineAsyncComponent, onMounted, onUnmounted } from 'vue'
import { RouterLink, RouterView } from 'vue-router'
import ThemeChoice from './ThemeChoice.vue'
import { useCollections } from './stores/collections'
import { useNotices } from './stores/notices'
import { usePreferences } from './stores/preferences'

usePreferences() // its theme
const collections = useCollections()
let stop = () => {}
onMounted(() => (stop = collections.follow()))
onUnmounted(() => stop())

const Notices = defineAsyncComponent(() => import('./Notices.vue')) // not needed until there is one
const notices = useNotices()
</script>

<template>
  <div class="app">
    <header>
      <img src="/favicon.svg" alt="" width="26" height="26" />
      <span class="name">Idle Beacon</span>
      <nav aria-label="Pages">
        <RouterLink :to="{ name: 'map' }" active-class="" :class="{ here: $route.name === 'map' }">Map</RouterLink>
        <RouterLink :to="{ name: 'data' }" :class="{ here: $route.path.startsWith('/data') }">Data</RouterLink>
      </nav>
      <ThemeChoice />
    </header>
    <RouterView v-slot="{ Component }">
      <KeepAlive include="MapPage">
        <component :is="Component" />
      </KeepAlive>
    </RouterView>
    <Notices v-if="notices.latest" />
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
.name {
  font-size: 1.05rem;
  font-weight: 600;
}
nav {
  display: flex;
  gap: 0.3rem;
  margin-inline: 1rem auto;
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
.here {
  background: rgb(255 255 255 / 18%);
  font-weight: 600;
}
</style>
