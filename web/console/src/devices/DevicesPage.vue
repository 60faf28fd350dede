<script setup lang="ts">
import { computed, defineAsyncComponent } from 'vue'
import { RouterLink, useRoute } from 'vue-router'
import { useSession } from '../stores/session'
import DeviceList from './DeviceList.vue'

// The devices, what was noticed of them, who watches, and who is told. Which of these is shown is in the address.
const NoticesPart = defineAsyncComponent(() => import('../watches/NoticesPart.vue'))
const WatchList = defineAsyncComponent(() => import('../watches/WatchList.vue'))
const HookList = defineAsyncComponent(() => import('../watches/HookList.vue'))
const Confirming = defineAsyncComponent(() => import('../watches/Confirming.vue'))

const route = useRoute()
const session = useSession()
const parts = computed(() => [
  { show: 'devices', label: 'Devices' },
  ...(session.reads
    ? [
        { show: 'notices', label: 'Notices' },
        { show: 'watches', label: 'Watches' },
      ]
    : []),
  ...(session.ownsAll ? [{ show: 'hooks', label: 'Hooks' }] : []),
])
const asked = computed(() => [route.query.show ?? []].flat()[0])
const shown = computed(() => parts.value.find((p) => p.show === asked.value)?.show ?? 'devices')
</script>

<template>
  <main>
    <h1 tabindex="-1">Devices</h1>
    <nav v-if="parts.length > 1" class="parts" aria-label="Parts of this page">
      <RouterLink
        v-for="p in parts"
        :key="p.show"
        :to="{ name: 'devices', query: p.show === 'devices' ? {} : { show: p.show } }"
        :aria-current="p.show === shown ? 'page' : undefined"
        >{{ p.label }}</RouterLink
      >
    </nav>
    <NoticesPart v-if="shown === 'notices'" :key="JSON.stringify(route.query)" />
    <WatchList v-else-if="shown === 'watches'" />
    <HookList v-else-if="shown === 'hooks'" />
    <DeviceList v-else />
    <Confirming v-if="shown === 'watches' || shown === 'hooks'" />
  </main>
</template>

<style scoped>
main {
  flex: 1;
  min-height: 0;
  display: flex;
  flex-direction: column;
  gap: 0.7rem;
  padding: 1rem;
  overflow: auto;
}
h1 {
  font-size: 1.15rem;
}
.parts {
  display: flex;
  flex-wrap: wrap;
  gap: 1.2rem;
  border-bottom: 1px solid var(--rule);
}
.parts a {
  padding: 0.3rem 0.1rem 0.45rem;
  color: inherit;
  text-decoration: none;
  border-bottom: 3px solid transparent;
}
.parts a[aria-current] {
  border-color: var(--text);
  font-weight: 600;
}
</style>
