<script setup lang="ts">
import { defineAsyncComponent, onMounted, onUnmounted } from 'vue'
import { RouterLink, RouterView } from 'vue-router'
import ThemeChoice from './ThemeChoice.vue'
import { useCollections } from './stores/collections'
import { useNotices } from './stores/notices'
import { usePreferences } from './stores/preferences'
import { useSession } from './stores/session'

usePreferences() // its theme
const collections = useCollections()
let stop = () => {}
onMounted(() => (stop = collections.follow()))
onUnmounted(() => stop())

const session = useSession()
const AccountDialog = defineAsyncComponent(() => import('./access/AccountDialog.vue')) // neither is this
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
        <RouterLink :to="{ name: 'devices' }" :class="{ here: $route.name === 'devices' }">Devices</RouterLink>
        <RouterLink
          v-if="session.session && !session.guest"
          :to="{ name: 'changes' }"
          :class="{ here: $route.name === 'changes' }"
          >Changes</RouterLink
        >
        <RouterLink v-if="session.ownsAll" :to="{ name: 'access' }" :class="{ here: $route.name === 'access' }"
          >Access</RouterLink
        >
      </nav>
      <button v-if="session.session" type="button" class="who" @click="session.asking = true">
        <template v-if="session.guest">Sign in</template>
        <span v-else dir="auto" :title="`${session.session.name}, ${session.session.role}`">{{
          session.session.name
        }}</span>
      </button>
      <ThemeChoice />
    </header>
    <RouterView v-slot="{ Component }">
      <KeepAlive include="MapPage">
        <component :is="Component" />
      </KeepAlive>
    </RouterView>
    <Notices v-if="notices.latest" />
    <AccountDialog v-if="session.asking" />
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
a,
.who {
  padding: 0.25rem 0.8rem;
  border: 0;
  border-radius: 6px;
  background: none;
  color: inherit;
  font: inherit;
  text-decoration: none;
  cursor: pointer;
}
.who {
  max-width: 12rem;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
@media (max-width: 640px) {
  .name {
    display: none;
  }
  nav {
    margin-inline: 0 auto;
  }
  .who {
    max-width: 7rem;
  }
}
@media (max-width: 480px) {
  header {
    gap: 0.2rem;
    padding-inline: 0.4rem;
    font-size: 0.92rem;
  }
  header > img {
    display: none;
  }
  nav {
    gap: 0;
  }
  a,
  .who {
    padding-inline: 0.45rem;
  }
  .who {
    max-width: 4.5rem;
  }
}
a:hover,
.who:hover {
  background: rgb(255 255 255 / 12%);
}
.here {
  background: rgb(255 255 255 / 18%);
  font-weight: 600;
}
</style>
