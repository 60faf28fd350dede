<script setup lang="ts">
import { computed } from 'vue'
import type { StyleDocument } from '../api/styles'
import Choice from '../parts/Choice.vue'
import { having, numberOf, type Property, textOf } from './properties'
import RampFields from './RampFields.vue'

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
  const [first, last] = [shade.colours?.[0], shade.colours?.at(-1)]
  if (first && last) shade.colours = [first, last]
  emit('change', { ...props.draft, shade })
}
function setBreaks(text: string): void {
  const breaks = text
    .split(/[;,\s]+/)
    .filter(Boolean)
    .map(Number)
  if (breaks.length > 0 && breaks.every(Number.isFinite)) setShade({ breaks: breaks.sort((a, b) => a - b) })
}
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
      <RampFields
        :classes="
          draft.shade.method === 'equal' || draft.shade.method === 'quantile' ? (draft.shade.classes ?? 5) : undefined
        "
        :colours="draft.shade.colours"
        least="least"
        most="most"
        @classes="(classes) => setShade({ classes })"
        @colours="(colours) => setShade({ colours })"
      >
        <label v-if="draft.shade.method === 'manual'">
          between them
          <input
            type="text"
            :value="draft.shade.breaks?.join(', ')"
            placeholder="2, 5, 10"
            @change="setBreaks(textOf($event))"
          />
        </label>
      </RampFields>
    </template>
  </p>
</template>
