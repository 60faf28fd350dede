<script setup lang="ts">
import { computed } from 'vue'
import { numberOf, textOf } from './properties'

// How numbers are shaded: in how many classes, if there are some, and from which colour to which.
const props = defineProps<{
  classes: number | undefined // undefined if there are none
  colours: readonly string[] | undefined
  least: string // what the first colour is of, for screen readers
  most: string
}>()
const emit = defineEmits<{ classes: [n: number]; colours: [ends: [string, string]] }>()

const first = '#b7d7d8'
const last = '#0b4f6c'
const ends = computed<[string, string]>(() => [props.colours?.[0] ?? first, props.colours?.at(-1) ?? last])
</script>

<template>
  <label v-if="classes !== undefined">
    classes
    <input type="number" min="2" max="9" :value="classes" @change="emit('classes', numberOf($event) ?? 5)" />
  </label>
  <slot />
  <label
    >from
    <input
      type="color"
      :value="ends[0]"
      :aria-label="`Colour of the ${least}`"
      @change="emit('colours', [textOf($event), ends[1]])"
  /></label>
  <label
    >to
    <input
      type="color"
      :value="ends[1]"
      :aria-label="`Colour of the ${most}`"
      @change="emit('colours', [ends[0], textOf($event)])"
  /></label>
</template>
