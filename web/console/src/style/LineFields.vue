<script setup lang="ts">
import { computed } from 'vue'
import type { StyleDocument } from '../api/styles'
import { having, numberOf, type Property, textOf } from './properties'

// Lines and fills of paths, areas and circles; and the circles.
const props = defineProps<{ draft: StyleDocument; properties: Property[] }>()
const emit = defineEmits<{ change: [next: StyleDocument] }>()

type Line = NonNullable<StyleDocument['line']>
type Fill = NonNullable<StyleDocument['fill']>

const setLine = (member: keyof Line, value: string | number | undefined) =>
  emit('change', { ...props.draft, line: having<Line, keyof Line>(props.draft.line, member, value) })
const setFill = (member: keyof Fill, value: string | number | undefined) =>
  emit('change', { ...props.draft, fill: having<Fill, keyof Fill>(props.draft.fill, member, value) })
const circle = computed(() =>
  props.draft.circle?.metres !== undefined ? 'metres' : (props.draft.circle?.property ?? ''),
)
function setCircle(choice: string): void {
  const next = choice === 'metres' ? { metres: 50 } : { property: choice }
  emit('change', choice ? { ...props.draft, circle: next } : having(props.draft, 'circle', undefined))
}
const setRadius = (metres: number | undefined) =>
  metres && metres > 0 && emit('change', { ...props.draft, circle: { metres } })
const numbers = computed(() => props.properties.filter((p) => p.number).map((p) => p.name))
</script>

<template>
  <p class="row">
    <label
      >Line
      <input
        type="number"
        min="0"
        max="20"
        step="0.5"
        :value="draft.line?.width ?? 2.5"
        @change="setLine('width', numberOf($event))"
      />
      pixels wide</label
    >
    <label>
      dash
      <select :value="draft.line?.dash ?? 'solid'" aria-label="Dash" @change="setLine('dash', textOf($event))">
        <option>solid</option>
        <option>dashed</option>
        <option>dotted</option>
      </select>
    </label>
    <label
      >opacity
      <input
        type="number"
        min="0"
        max="1"
        step="0.1"
        :value="draft.line?.opacity ?? 1"
        @change="setLine('opacity', numberOf($event))"
    /></label>
    <label
      >Fill opacity
      <input
        type="number"
        min="0"
        max="1"
        step="0.02"
        :value="draft.fill?.opacity ?? 0.16"
        @change="setFill('opacity', numberOf($event))"
    /></label>
  </p>
  <p class="row">
    <label>
      Circle around each place
      <select :value="circle" @change="setCircle(textOf($event))">
        <option value="">none</option>
        <option value="metres">of the same radius</option>
        <option v-for="n in numbers" :key="n" :value="n">of {{ n }} metres</option>
        <option v-if="circle && circle !== 'metres' && !numbers.includes(circle)" :value="circle"
          >of {{ circle }} metres</option
        >
      </select>
    </label>
    <label v-if="draft.circle?.metres !== undefined"
      ><input
        type="number"
        min="1"
        :value="draft.circle.metres"
        aria-label="Radius in metres"
        @change="setRadius(numberOf($event))"
      />
      metres</label
    >
  </p>
</template>
