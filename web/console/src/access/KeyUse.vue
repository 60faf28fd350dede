<script setup lang="ts">
import { computed } from 'vue'
import { counted, numberText } from '../text/format'

// How many requests came with a key on each of the last days, as bars.
const props = defineProps<{ days: number[] }>()

const height = 24
const width = 4 // of a bar, with the gap after it
const most = computed(() => Math.max(1, ...props.days))
const sum = computed(() => props.days.reduce((n, d) => n + d, 0))
const bars = computed(() =>
  props.days.map((n, i) => {
    const h = n === 0 ? 0 : Math.max(1.5, (n / most.value) * height)
    return { x: i * width, y: height - h, h, label: dayLabel(props.days.length - 1 - i, n) }
  }),
)
const dayLabel = (ago: number, n: number) =>
  `${ago === 0 ? 'Today' : counted(ago, 'day ago', 'days ago')}: ${counted(n, 'request', 'requests')}`
</script>

<template>
  <span class="use">
    <svg
      :viewBox="`0 0 ${days.length * width} ${height + 1}`"
      :width="days.length * width"
      :height="height + 1"
      role="img"
      :aria-label="`${counted(sum, 'request', 'requests')} in the last thirty days, at most ${numberText(most)} a day`"
    >
      <line x1="0" :x2="days.length * width" :y1="height + 0.5" :y2="height + 0.5" />
      <rect v-for="b in bars" :key="b.x" :x="b.x" :y="b.y" :width="width - 1" :height="b.h">
        <title>{{ b.label }}</title>
      </rect>
    </svg>
    {{ counted(sum, 'request', 'requests') }}
  </span>
</template>

<style scoped>
.use {
  display: inline-flex;
  flex-wrap: wrap;
  align-items: end;
  gap: 0.2rem 0.6rem;
  font-size: 0.88rem;
}
rect {
  fill: var(--p-primary-color);
}
line {
  stroke: var(--rule);
}
</style>
