<script setup lang="ts">
import { computed } from 'vue'
import type { StyleDocument } from '../api/styles'
import Choice from '../parts/Choice.vue'
import { having, numberOf, type Property, textOf } from './properties'

// Size and colour by a number.
const props = defineProps<{ draft: StyleDocument; properties: Property[] }>()
const emit = defineEmits<{ change: [next: StyleDocument] }>()

type Size = NonNullable<StyleDocument['size']>
type Shade = NonNullable<StyleDocument['shade']>

const numbers = computed(() => props.properties.filter((p) => p.number).map((p) => p.name))
/** The properties to choose from, after none; now is the one that is chosen, of whatever kind it is. */
const choices = (none: string, now: string | undefined) => [
  { value: '', label: none },
  ...[...new Set([...numbers.value, ...(now ? [now] : [])])].map((name) => ({ value: name, label: name })),
]
const methods = {
  quantile: 'as many in each class',
  equal: 'classes equally wide',
  manual: 'classes as I say',
  continuous: 'without classes',
} as const
const first = '#b7d7d8'
const last = '#0b4f6c'

function setSize(member: keyof Size, value: string | number | undefined): void {
  if (member === 'property' && !value) emit('change', having(props.draft, 'size', undefined))
  else emit('change', { ...props.draft, size: having<Size, keyof Size>(props.draft.size, member, value) })
}
function setShade(next: Partial<Shade>): void {
  const shade = { method: 'quantile', ...props.draft.shade, ...next } as Shade
  if (!shade.property) {
    emit('change', having(props.draft, 'shade', undefined))
    return
  }
  if (shade.method !== 'manual') delete shade.breaks
  else shade.breaks ??= [1, 10]
  if (shade.method === 'manual' || shade.method === 'continuous') delete shade.classes
  if (shade.colours && shade.colours.length > 2)
    shade.colours = [shade.colours[0] ?? first, shade.colours.at(-1) ?? last]
  emit('change', { ...props.draft, shade })
}
function setBreaks(text: string): void {
  const breaks = text
    .split(/[;,\s]+/)
    .filter(Boolean)
    .map(Number)
  if (breaks.length > 0 && breaks.every(Number.isFinite)) setShade({ breaks: breaks.sort((a, b) => a - b) })
}
const colours = computed(
  () => [props.draft.shade?.colours?.[0] ?? first, props.draft.shade?.colours?.at(-1) ?? last] as [string, string],
)
</script>

<template>
  <p class="row">
    <span>Size by</span>
    <Choice
      :model-value="draft.size?.property ?? ''"
      :options="choices('nothing', draft.size?.property)"
      label="Size by"
      @update:model-value="(name) => setSize('property', name)"
    />
    <template v-if="draft.size">
      <label
        >from
        <input
          type="number"
          :value="draft.size.from ?? ''"
          placeholder="found"
          @change="setSize('from', numberOf($event))"
      /></label>
      <label
        >to
        <input type="number" :value="draft.size.to ?? ''" placeholder="found" @change="setSize('to', numberOf($event))"
      /></label>
      <label
        >drawn
        <input
          type="number"
          min="12"
          max="96"
          :value="draft.size.least ?? 18"
          @change="setSize('least', numberOf($event))"
      /></label>
      <label
        >to
        <input
          type="number"
          min="12"
          max="96"
          :value="draft.size.most ?? 46"
          @change="setSize('most', numberOf($event))"
        />
        pixels wide</label
      >
    </template>
  </p>
  <p class="row">
    <span>Colour by</span>
    <Choice
      :model-value="draft.shade?.property ?? ''"
      :options="choices('category', draft.shade?.property)"
      label="Colour by"
      @update:model-value="(property) => setShade({ property })"
    />
    <template v-if="draft.shade">
      <span>in</span>
      <Choice
        :model-value="draft.shade.method"
        :options="methods"
        label="Classes"
        @update:model-value="(method) => setShade({ method: method as Shade['method'] })"
      />
      <label v-if="draft.shade.method === 'equal' || draft.shade.method === 'quantile'">
        classes
        <input
          type="number"
          min="2"
          max="9"
          :value="draft.shade.classes ?? 5"
          @change="setShade({ classes: numberOf($event) ?? 5 })"
        />
      </label>
      <label v-if="draft.shade.method === 'manual'">
        between them
        <input
          type="text"
          :value="draft.shade.breaks?.join(', ')"
          placeholder="2, 5, 10"
          @change="setBreaks(textOf($event))"
        />
      </label>
      <label
        >from
        <input
          type="color"
          :value="colours[0]"
          aria-label="Colour of the least"
          @change="setShade({ colours: [textOf($event), colours[1]] })"
      /></label>
      <label
        >to
        <input
          type="color"
          :value="colours[1]"
          aria-label="Colour of the most"
          @change="setShade({ colours: [colours[0], textOf($event)] })"
      /></label>
    </template>
  </p>
</template>
