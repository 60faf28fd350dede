<script setup lang="ts">
import toastTheme from '@primeuix/themes/aura/toast'
import Toast from 'primevue/toast'
import { useToast } from 'primevue/usetoast'
import { onMounted, watch } from 'vue'
import { useNotices } from './stores/notices'
import { addToTheme } from './theme'

// Shows what users are told in passing. What went wrong stays until it is closed.
addToTheme({ toast: toastTheme })
const toast = useToast()
const notices = useNotices()

function show(): void {
  const n = notices.latest
  if (!n) return
  const failed = n.kind === 'failed'
  toast.add({ severity: failed ? 'error' : 'success', summary: n.text, ...(!failed && { life: 4000 }) })
}
onMounted(show)
watch(() => notices.latest, show, { flush: 'sync' }) // two may come at once
</script>

<template>
  <Toast position="bottom-right" />
</template>
