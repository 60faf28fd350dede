<script setup lang="ts">
import toastTheme from '@primeuix/themes/aura/toast'
import Toast from 'primevue/toast'
import { useToast } from 'primevue/usetoast'
import { onMounted, shallowRef, watch } from 'vue'
import { type Offer, useNotices } from './stores/notices'
import { addToTheme } from './theme'

// Shows what users are told in passing. What went wrong stays until it is closed.
addToTheme({ toast: toastTheme })
const toast = useToast()
const notices = useNotices()
const offer = shallowRef<Offer | null>(null) // of the notice that came last

function act(): void {
  const { value } = offer
  offer.value = null
  toast.removeAllGroups()
  value?.act()
}

function show(): void {
  const n = notices.latest
  if (!n) return
  const failed = n.kind === 'failed'
  const life = n.offer ? 10_000 : 4000 // ms
  offer.value = n.offer ?? null
  toast.add({ severity: failed ? 'error' : 'success', summary: n.text, ...(!failed && { life }) })
}
onMounted(show)
watch(() => notices.latest, show, { flush: 'sync' }) // two may come at once
</script>

<template>
  <Toast position="bottom-right" class="passing">
    <template #message="{ message }">
      <div class="notice">
        <span>{{ message.summary }}</span>
        <button v-if="offer && message.summary === notices.latest?.text" type="button" class="link" @click="act">{{
          offer.label
        }}</button>
      </div>
    </template>
  </Toast>
</template>

<style scoped>
.notice {
  flex: 1;
  display: flex;
  flex-wrap: wrap;
  gap: 0.2rem 0.8rem;
  align-items: baseline;
}
</style>

<style>
.passing {
  bottom: 3.4rem !important; /* over where the map says what it shows; the component sets a style of its own */
}
</style>
