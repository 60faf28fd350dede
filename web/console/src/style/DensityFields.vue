<script setup lang="ts">
import { computed } from 'vue'
import type { StyleDocument } from '../api/styles'
import Choice from '../parts/Choice.vue'
import NumberChoice from './NumberChoice.vue'
import { having, numberOf, type Property } from './properties'
import RampFields from './RampFields.vue'

// What clusters tell, and whether places are drawn as markers or as shaded cells.
const props = defineProps<{ draft: StyleDocument; properties: Property[] }>()
const emit = defineEmits<{ change: [next: StyleDocument] }>()

type StyleNumber = NonNullable<StyleDocument['badge']>
type Density = NonNullable<StyleDocument['density']>

const setBadge = (badge: StyleNumber) => emit('change', having(props.draft, 'badge', badge.show ? badge : undefined))
const setDensity = (next: Density | undefined) => emit('change', having(props.draft, 'density', next))
const density = computed<Density>(() => props.draft.density ?? {})

function setNumber(number: StyleNumber): void {
  const { show: _show, property: _property, ...rest } = density.value
  setDensity({ ...rest, ...number })
}
function setMethod(method: string): void {
  const { method: _method, classes: _classes, colours, ...rest } = density.value
  const next: Density = method === 'classes' ? { ...rest, method } : rest
  const [first, last] = [colours?.[0], colours?.at(-1)]
  setDensity(first && last ? { ...next, colours: [first, last] } : next)
}
</script>

<template>
  <p class="row">
    <span>Clusters tell</span>
    <NumberChoice :number="draft.badge ?? {}" :properties="properties" what="clusters" @change="setBadge" />
  </p>
  <p class="row">
    <label
      ><input
        type="checkbox"
        :checked="draft.density !== undefined"
        @change="setDensity(($event.target as HTMLInputElement).checked ? {} : undefined)"
      />
      Shaded cells instead of markers</label
    >
    <template v-if="draft.density">
      <span>by</span>
      <NumberChoice :number="density" :properties="properties" what="cells" @change="setNumber" />
      <span>in</span>
      <Choice
        :model-value="density.method ?? 'continuous'"
        :options="{ continuous: 'smooth shades', classes: 'classes' }"
        label="Shades of the cells"
        @update:model-value="setMethod"
      />
      <RampFields
        :classes="density.method === 'classes' ? (density.classes ?? 5) : undefined"
        :colours="density.colours"
        least="lightest cells"
        most="heaviest cells"
        @classes="(classes) => setDensity({ ...density, classes })"
        @colours="(colours) => setDensity({ ...density, colours })"
      />
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
