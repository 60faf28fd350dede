<script setup lang="ts">
import { computed } from 'vue'

// A small line of numbers, the greatest at the top.
const props = defineProps<{ values: readonly number[]; label: string }>()
const width = 120
const height = 24
const most = computed(() => Math.max(...props.values, 0.1))
const path = computed(() =>
  props.values
    .map((v, i) => {
      const x = (i / Math.max(1, props.values.length - 1)) * width
      return `${i === 0 ? 'M' : 'L'}${x.toFixed(1)} ${(height - 2 - (v / most.value) * (height - 4)).toFixed(1)}`
    })
    .join(''),
)
</script>

<template>
  <svg :viewBox="`0 0 ${width} ${height}`" preserveAspectRatio="none" role="img" :aria-label="label">
    <path v-if="values.length > 1" :d="path" />
  </svg>
</template>

<style scoped>
svg {
  display: block;
  width: 100%;
  height: 24px;
}
path {
  fill: none;
  stroke: currentColor;
  stroke-width: 1.5;
  vector-effect: non-scaling-stroke;
}
</style>
