<script setup lang="ts">
import { computed } from 'vue'
import type { StyleDocument } from '../api/styles'
import Choice from '../parts/Choice.vue'
import { having, numberOf, type Property } from './properties'

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
const dashes = { solid: 'solid', dashed: 'dashed', dotted: 'dotted' }
const circles = computed(() => {
  const numbers = props.properties.filter((p) => p.number).map((p) => p.name)
  const now = circle.value && circle.value !== 'metres' ? [circle.value] : []
  return [
    { value: '', label: 'none' },
    { value: 'metres', label: 'of the same radius' },
    ...[...new Set([...numbers, ...now])].map((name) => ({ value: name, label: `of ${name} metres` })),
  ]
})
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
    <span>dash</span>
    <Choice
      :model-value="draft.line?.dash ?? 'solid'"
      :options="dashes"
      label="Dash"
      @update:model-value="(dash) => setLine('dash', dash)"
    />
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
    <span>Circle around each place</span>
    <Choice :model-value="circle" :options="circles" label="Circle around each place" @update:model-value="setCircle" />
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
