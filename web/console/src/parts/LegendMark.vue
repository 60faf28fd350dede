<script setup lang="ts">
import { lookOf } from '@idlebeacon/map'
import { computed } from 'vue'
import type { Legend } from '../api/styles'
import CategoryMark from './CategoryMark.vue'

// The picture of one entry of a legend.
const props = defineProps<{ entry: Legend['entries'][number]; lines?: boolean }>()
const dashes = { solid: '', dashed: '6 4', dotted: '1 4' }
const line = computed(() => props.entry.line ?? {})
</script>

<template>
  <span v-if="entry.kind === 'size'" class="size"
    ><span :style="{ width: `${entry.pixels}px`, height: `${entry.pixels}px` }"
  /></span>
  <span v-else-if="entry.kind === 'shade'" class="shade" :style="{ background: entry.colour }" />
  <span v-else-if="entry.kind === 'circle'" class="circle" />
  <span v-else-if="entry.kind === 'badge'" class="badge">12</span>
  <span v-else-if="entry.kind === 'density'" class="density"
    ><span v-for="(colour, i) in entry.colours" :key="i" :style="{ background: colour }"
  /></span>
  <svg v-else-if="lines" class="swatch" width="26" height="16" aria-hidden="true">
    <rect
      x="2"
      y="2"
      width="22"
      height="12"
      rx="3"
      :fill="entry.fill?.colour ?? entry.colour"
      :fill-opacity="entry.fill?.opacity ?? 0.16"
      :stroke="line.colour ?? entry.colour"
      :stroke-width="Math.min(4, line.width ?? 2.5)"
      :stroke-dasharray="dashes[line.dash ?? 'solid']"
      :stroke-linecap="line.dash === 'dotted' ? 'round' : 'butt'"
    />
  </svg>
  <CategoryMark v-else :look="lookOf(entry)" />
</template>

<style scoped>
.size {
  display: inline-grid;
  place-items: center;
  min-width: 20px;
}
.size > span {
  border-radius: 5px;
  border: 1.5px solid var(--soft);
}
.shade {
  display: inline-block;
  width: 20px;
  height: 14px;
  border-radius: 3px;
}
.badge {
  padding: 0 0.3rem;
  border: 1px solid var(--soft);
  border-radius: 4px;
  font-size: 0.75rem;
  font-weight: 600;
}
.density {
  display: inline-flex;
  width: 48px;
  height: 14px;
  border-radius: 3px;
  overflow: hidden;
}
.density > span {
  flex: 1;
}
.circle {
  display: inline-block;
  width: 18px;
  height: 18px;
  border: 2px solid var(--soft);
  border-radius: 50%;
}
.swatch {
  flex: none;
}
:root.dark .swatch {
  border-radius: 4px;
  background: #dfe8ec; /* dark colours show on the map as lighter ones */
}
</style>
