<script setup lang="ts">
import Button from 'primevue/button'
import { computed, ref } from 'vue'
import type { Geometry } from 'geojson'
import { type Conflict, propertyAt } from '../api/edits'
import BeforeAfterMap from '../parts/BeforeAfterMap.vue'
import { told } from './fields'

// Somebody else has changed the item meanwhile: member by member, which version is kept.
const props = defineProps<{
  conflict: Conflict
  mine: { properties?: Record<string, unknown>; geometry?: object } // a merge patch
}>()
const emit = defineEmits<{ settle: [members: string[]]; cancel: [] }>()

/** A member that both have changed, or only the other. */
interface Row {
  member: string
  name: string
  was: string
  theirs: string
  own: string | null // null if one has not changed it oneself
}

const place = (value: unknown) => {
  const [lon, lat] = (value as { coordinates?: number[] } | undefined)?.coordinates ?? []
  return typeof lat === 'number' && typeof lon === 'number' ? `${lat.toFixed(6)}, ${lon.toFixed(6)}` : 'another shape'
}
const rows = computed<Row[]>(() =>
  props.conflict.differing.map((d) => {
    if (d.member === '/geometry')
      return {
        member: d.member,
        name: 'Position',
        was: place(d.was),
        theirs: place(d.is),
        own: props.mine.geometry ? place(props.mine.geometry) : null,
      }
    const name = propertyAt(d.member)
    const own = props.mine.properties?.[name]
    return {
      member: `/properties/${name}`,
      name,
      was: told(d.was),
      theirs: told(d.is),
      own: own === undefined ? null : told(own === null ? undefined : own),
    }
  }),
)
const moved = computed(() => props.conflict.differing.find((d) => d.member === '/geometry'))
const both = computed(() => rows.value.filter((r) => r.own !== null && r.own !== r.theirs))
const others = computed(() => rows.value.filter((r) => r.own === null || r.own === r.theirs))
const kept = ref<Record<string, 'mine' | 'theirs'>>({})
const settled = computed(() => both.value.every((r) => kept.value[r.member]))
const settle = () =>
  emit(
    'settle',
    Object.keys(kept.value).filter((m) => kept.value[m] === 'mine'),
  )
</script>

<template>
  <div class="conflict" role="group" aria-label="Two versions">
    <p>Somebody else has changed this meanwhile. Nothing is lost: choose what to keep.</p>
    <fieldset v-for="r in both" :key="r.member">
      <legend dir="auto">{{ r.name }}</legend>
      <p class="soft" dir="auto">It was {{ r.was }}</p>
      <BeforeAfterMap
        v-if="r.member === '/geometry'"
        :was="conflict.current.geometry as Geometry"
        :is="mine.geometry as Geometry"
        label="Small map: theirs, grey, and yours, red"
      />
      <label dir="auto"
        ><input v-model="kept[r.member]" type="radio" :name="r.member" value="theirs" /> Theirs: {{ r.theirs }}</label
      >
      <label dir="auto"
        ><input v-model="kept[r.member]" type="radio" :name="r.member" value="mine" /> Yours: {{ r.own }}</label
      >
    </fieldset>
    <template v-for="r in others" :key="r.member">
      <p class="soft" dir="auto">{{ r.name }}: now {{ r.theirs }}</p>
      <BeforeAfterMap
        v-if="r.member === '/geometry'"
        :was="moved?.was as Geometry"
        :is="moved?.is as Geometry"
        label="Small map: where it was, grey, and where it is now, red"
      />
    </template>
    <div class="ways">
      <Button label="Save" :disabled="!settled" @click="settle" />
      <Button label="Back" severity="secondary" @click="emit('cancel')" />
    </div>
  </div>
</template>

<style scoped>
.conflict > * + * {
  margin-top: 0.6rem;
}
fieldset {
  border: 1px solid var(--rule);
  border-radius: 6px;
}
label {
  display: block;
  overflow-wrap: anywhere;
}
.ways {
  display: flex;
  gap: 0.5rem;
}
</style>
