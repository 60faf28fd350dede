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

// The component takes an empty value for none, and would not show what that is called.
const none = '\u0000none'

const all = computed(() => {
  const options = Array.isArray(props.options)
    ? (props.options as readonly { value: string; label: string }[])
    : Object.entries(props.options as Record<string, string>).map(([value, label]) => ({ value, label }))
  return options.map(({ value, label }) => ({ value: value || none, label }))
})
const chosen = computed({
  get: () => (model.value === '' && all.value.some((o) => o.value === none) ? none : model.value),
  set: (value: string) => (model.value = value === none ? '' : value),
})
</script>

<template>
  <Select
    v-model="chosen"
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
