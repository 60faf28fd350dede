<script setup lang="ts">
import { computed } from 'vue'
import type { StyleDocument } from '../api/styles'
import Choice from '../parts/Choice.vue'
import { having, numberOf, type Property, textOf } from './properties'

// What clusters tell, and whether places are drawn as markers or as shaded cells.
const props = defineProps<{ draft: StyleDocument; properties: Property[] }>()
const emit = defineEmits<{ change: [next: StyleDocument] }>()

type StyleNumber = NonNullable<StyleDocument['badge']>
type Density = NonNullable<StyleDocument['density']>
type Show = NonNullable<StyleNumber['show']>

const shows: Record<Show, string> = {
  count: 'how many places there are',
  sum: 'the sum of',
  mean: 'the mean of',
  least: 'the least of',
  greatest: 'the greatest of',
}
const first = '#b7d7d8'
const last = '#0b4f6c'

/** The properties with numbers, with the one that is chosen, of whatever kind it is. */
const choices = (now: string | undefined) =>
  Object.fromEntries(
    [...new Set([...props.properties.filter((p) => p.number).map((p) => p.name), ...(now ? [now] : [])])].map((n) => [
      n,
      n,
    ]),
  )

/** A number with another show or property; a sum of something is of the first property there is. */
function changed<N extends StyleNumber>(number: N, show: string, property?: string): N {
  const of = property ?? number.property ?? Object.keys(choices(undefined))[0]
  const next = { ...number }
  delete next.show
  delete next.property
  return show === 'count' || !of ? next : { ...next, show: show as Show, property: of }
}
function setBadge(show: string, property?: string): void {
  const badge = changed<StyleNumber>(props.draft.badge ?? {}, show, property)
  emit('change', having(props.draft, 'badge', badge.show ? badge : undefined))
}
function setDensity(next: Density | undefined): void {
  emit('change', having(props.draft, 'density', next))
}
const density = computed<Density>(() => props.draft.density ?? {})
function setMethod(method: string): void {
  const next: Density = { ...density.value }
  delete next.method
  delete next.classes
  if (next.colours && next.colours.length > 2) next.colours = [next.colours[0] ?? first, next.colours.at(-1) ?? last]
  setDensity(method === 'classes' ? { ...next, method: 'classes' } : next)
}
const colours = computed(() => [density.value.colours?.[0] ?? first, density.value.colours?.at(-1) ?? last] as const)
const setColours = (from: string, to: string) => setDensity({ ...density.value, colours: [from, to] })
</script>

<template>
  <p class="row">
    <span>Clusters tell</span>
    <Choice
      :model-value="draft.badge?.show ?? 'count'"
      :options="shows"
      label="What clusters tell"
      @update:model-value="(show) => setBadge(show)"
    />
    <Choice
      v-if="draft.badge?.property"
      :model-value="draft.badge.property"
      :options="choices(draft.badge.property)"
      label="Property that clusters tell of"
      @update:model-value="(property) => setBadge(draft.badge?.show ?? 'sum', property)"
    />
  </p>
  <p class="row">
    <label
      ><input
        type="checkbox"
        :checked="draft.density !== undefined"
        @change="setDensity(($event.target as HTMLInputElement).checked ? {} : undefined)"
      />
      Shaded cells in the stead of markers</label
    >
    <template v-if="draft.density">
      <span>by</span>
      <Choice
        :model-value="density.show ?? 'count'"
        :options="shows"
        label="What cells tell"
        @update:model-value="(show) => setDensity(changed(density, show))"
      />
      <Choice
        v-if="density.property"
        :model-value="density.property"
        :options="choices(density.property)"
        label="Property that cells tell of"
        @update:model-value="(property) => setDensity(changed(density, density.show ?? 'sum', property))"
      />
      <span>in</span>
      <Choice
        :model-value="density.method ?? 'continuous'"
        :options="{ continuous: 'smooth shades', classes: 'classes' }"
        label="Shades of the cells"
        @update:model-value="setMethod"
      />
      <label v-if="density.method === 'classes'">
        classes
        <input
          type="number"
          min="2"
          max="9"
          :value="density.classes ?? 5"
          @change="setDensity(having(density, 'classes', numberOf($event)))"
        />
      </label>
      <label
        >from
        <input
          type="color"
          :value="colours[0]"
          aria-label="Colour of the lightest cells"
          @change="setColours(textOf($event), colours[1])"
      /></label>
      <label
        >to
        <input
          type="color"
          :value="colours[1]"
          aria-label="Colour of the heaviest cells"
          @change="setColours(colours[0], textOf($event))"
      /></label>
      <label
        >up to zoom
        <input
          type="number"
          min="0"
          max="24"
          :value="density.to ?? ''"
          placeholder="all"
          @change="setDensity(having(density, 'to', numberOf($event)))"
        />
      </label>
    </template>
  </p>
</template>
