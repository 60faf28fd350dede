<script setup lang="ts">
import arrowLeft from 'lucide-static/icons/arrow-left.svg?raw'
import arrowUp from 'lucide-static/icons/arrow-up.svg?raw'
import check from 'lucide-static/icons/check.svg?raw'
import chevronDown from 'lucide-static/icons/chevron-down.svg?raw'
import chevronUp from 'lucide-static/icons/chevron-up.svg?raw'
import copy from 'lucide-static/icons/copy.svg?raw'
import download from 'lucide-static/icons/download.svg?raw'
import list from 'lucide-static/icons/list.svg?raw'
import map from 'lucide-static/icons/map.svg?raw'
import maximize from 'lucide-static/icons/maximize.svg?raw'
import minus from 'lucide-static/icons/minus.svg?raw'
import monitor from 'lucide-static/icons/monitor.svg?raw'
import moon from 'lucide-static/icons/moon.svg?raw'
import palette from 'lucide-static/icons/palette.svg?raw'
import plus from 'lucide-static/icons/plus.svg?raw'
import sun from 'lucide-static/icons/sun.svg?raw'
import table from 'lucide-static/icons/table.svg?raw'
import trash from 'lucide-static/icons/trash-2.svg?raw'
import undo from 'lucide-static/icons/undo-2.svg?raw'
import upload from 'lucide-static/icons/upload.svg?raw'
import x from 'lucide-static/icons/x.svg?raw'
import { computed } from 'vue'

// A picture on a button. What the button does is said by its label.
const pictures = {
  'arrow-left': arrowLeft,
  'arrow-up': arrowUp,
  check,
  'chevron-down': chevronDown,
  'chevron-up': chevronUp,
  copy,
  download,
  list,
  map,
  maximize,
  minus,
  monitor,
  moon,
  palette,
  plus,
  sun,
  table,
  trash,
  undo,
  upload,
  x,
}
const props = defineProps<{ name: keyof typeof pictures }>()
const lines = computed(() => /<svg[^>]*>([\s\S]*)<\/svg>/.exec(pictures[props.name])?.[1] ?? '')
</script>

<template>
  <svg
    class="icon"
    viewBox="0 0 24 24"
    width="1.1em"
    height="1.1em"
    fill="none"
    stroke="currentColor"
    stroke-width="2"
    stroke-linecap="round"
    stroke-linejoin="round"
    aria-hidden="true"
    v-html="lines"
  />
</template>

<style scoped>
.icon {
  flex: none;
  vertical-align: -0.15em;
}
</style>
