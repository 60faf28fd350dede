<script setup lang="ts">
import confirmdialog from '@primeuix/themes/aura/confirmdialog'
import dialog from '@primeuix/themes/aura/dialog'
import ConfirmDialog from 'primevue/confirmdialog'
import Message from 'primevue/message'
import { useSession } from '../stores/session'
import { addToTheme } from '../theme'
import GuestList from './GuestList.vue'
import IssuerList from './IssuerList.vue'
import KeyList from './KeyList.vue'

// Who may see, suggest, change and report: keys, issuers of the app's own users, and guests.
addToTheme({ confirmdialog, dialog })
const session = useSession()
</script>

<template>
  <main>
    <h1 tabindex="-1">Access</h1>
    <Message v-if="session.session && !session.ownsAll" severity="warn">
      This page is for owners of all collections.
      <template v-if="session.guest"
        ><button type="button" class="link" @click="session.asking = true">Sign in</button> as one to see it.</template
      >
      <template v-else>You are signed in as {{ session.session.name }}, {{ session.session.role }}.</template>
    </Message>
    <template v-else-if="session.session">
      <KeyList />
      <GuestList />
      <IssuerList />
    </template>
    <ConfirmDialog class="ask" />
  </main>
</template>

<style scoped>
main {
  position: relative; /* what is only read out stays within it */
  flex: 1;
  min-height: 0;
  overflow: auto;
  padding: 1rem;
  display: flex;
  flex-direction: column;
  gap: 1.4rem;
}
main > :deep(*) {
  width: 100%;
  max-width: 1180px;
  margin-inline: auto;
}
h1 {
  font-size: 1.25rem;
}
main :deep(h2) {
  font-size: 1rem;
}
main :deep(.rows) {
  list-style: none;
  margin: 0.6rem 0 0;
  padding: 0;
  border: 1px solid var(--rule);
  background: var(--card);
}
main :deep(.rows > li) {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.4rem 1.2rem;
  padding: 0.55rem 0.8rem;
}
main :deep(.rows > li + li) {
  border-top: 1px solid var(--rule);
}
</style>
