<script setup lang="ts">
import Button from 'primevue/button'
import { computed } from 'vue'
import Icon from './parts/Icon.vue'
import { type Theme, usePreferences } from './stores/preferences'

// Goes from the theme of the system to a light and a dark one.
const preferences = usePreferences()
const next: Record<Theme, Theme> = { system: 'light', light: 'dark', dark: 'system' }
const names: Record<Theme, string> = { system: 'as the system', light: 'light', dark: 'dark' }
const icons = { system: 'monitor', light: 'sun', dark: 'moon' } as const
const label = computed(() => `Colours: ${names[preferences.theme]}`)
</script>

<template>
  <Button
    text
    size="small"
    class="theme"
    :aria-label="label"
    :title="`${label}. Press for: ${names[next[preferences.theme]]}`"
    @click="preferences.theme = next[preferences.theme]"
  >
    <Icon :name="icons[preferences.theme]" />
  </Button>
</template>

<style scoped>
.theme,
.theme:not(:disabled):hover {
  color: inherit;
}
</style>
