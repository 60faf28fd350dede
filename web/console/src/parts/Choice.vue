<script setup lang="ts">
import { computed, defineAsyncComponent } from 'vue'

// Chooses one of several values. It has a name for screen readers, or the id of its label.
const Select = defineAsyncComponent(() => import('./ThemedSelect.vue')) // large, and seldom needed at once
const props = defineProps<{
  options: Readonly<Record<string, string>> | readonly { value: string; label: string }[]
  label?: string
  labelledBy?: string
  placeholder?: string
  disabled?: boolean
}>()
const model = defineModel<string>({ required: true })

const all = computed(() =>
  Array.isArray(props.options)
    ? (props.options as readonly { value: string; label: string }[]).slice()
    : Object.entries(props.options as Record<string, string>).map(([value, label]) => ({ value, label })),
)
</script>

<template>
  <Select
    v-model="model"
    :options="all"
    option-value="value"
    option-label="label"
    size="small"
    class="choice"
    :aria-label="label"
    :aria-labelledby="labelledBy"
    :placeholder="placeholder"
    :disabled="disabled ?? false"
    :data-value="model"
  />
</template>

<style scoped>
.choice {
  max-width: 100%;
}
</style>
