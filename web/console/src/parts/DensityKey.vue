<script setup lang="ts">
import type { Density } from '@idlebeacon/map'
import { computed } from 'vue'
import { roundedText } from '../text/format'

// The key to shaded cells: a line for each class or, if there are very many, the ends of the ramp.
const props = defineProps<{ density: Density }>()

const most = 9 // classes that are told one by one
const classes = computed(() =>
  props.density.colours.map((colour, i) => {
    const from = props.density.breaks[i - 1]
    const to = props.density.breaks[i]
    if (from === undefined) return { colour, label: to === undefined ? 'all' : `below ${roundedText(to)}` }
    return {
      colour,
      label: to === undefined ? `${roundedText(from)} and more` : `${roundedText(from)} to ${roundedText(to)}`,
    }
  }),
)
</script>

<template>
  <ul v-if="classes.length <= most" class="classes">
    <li v-for="(c, i) in classes" :key="i"><span class="swatch" :style="{ background: c.colour }" /> {{ c.label }}</li>
  </ul>
  <p v-else class="ramp">
    <span>{{ roundedText(density.range[0]) }}</span>
    <span class="strip" :style="{ background: `linear-gradient(to right, ${density.colours.join(', ')})` }" />
    <span>{{ roundedText(density.range[1]) }}</span>
  </p>
</template>

<style scoped>
.classes {
  display: flex;
  flex-wrap: wrap;
  gap: 0.1rem 0.8rem;
  margin: 0;
  padding: 0;
  list-style: none;
}
.classes li {
  display: flex;
  align-items: center;
  gap: 0.35rem;
}
.swatch {
  width: 16px;
  height: 12px;
  border-radius: 2px;
}
.ramp {
  display: flex;
  align-items: center;
  gap: 0.4rem;
  margin: 0 0 0.2rem;
}
.strip {
  flex: 1;
  height: 12px;
  min-width: 60px;
  border-radius: 3px;
}
</style>
