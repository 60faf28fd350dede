<script setup lang="ts">
import { computed } from 'vue'
import type { StyleDocument } from '../api/styles'
import { having, numberOf, type Property, textOf } from './properties'

// Size and colour by a number.
const props = defineProps<{ draft: StyleDocument; properties: Property[] }>()
const emit = defineEmits<{ change: [next: StyleDocument] }>()

type Size = NonNullable<StyleDocument['size']>
type Shade = NonNullable<StyleDocument['shade']>

const numbers = computed(() => props.properties.filter((p) => p.number).map((p) => p.name))
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
    <label>
      Size by
      <select :value="draft.size?.property ?? ''" @change="setSize('property', textOf($event))">
        <option value="">nothing</option>
        <option v-for="n in numbers" :key="n">{{ n }}</option>
        <option v-if="draft.size && !numbers.includes(draft.size.property)">{{ draft.size.property }}</option>
      </select>
    </label>
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
    <label>
      Colour by
      <select :value="draft.shade?.property ?? ''" @change="setShade({ property: textOf($event) })">
        <option value="">category</option>
        <option v-for="n in numbers" :key="n">{{ n }}</option>
        <option v-if="draft.shade && !numbers.includes(draft.shade.property)">{{ draft.shade.property }}</option>
      </select>
    </label>
    <template v-if="draft.shade">
      <label>
        in
        <select :value="draft.shade.method" @change="setShade({ method: textOf($event) as Shade['method'] })">
          <option v-for="(label, m) in methods" :key="m" :value="m">{{ label }}</option>
        </select>
      </label>
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
