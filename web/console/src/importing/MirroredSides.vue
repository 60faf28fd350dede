<script setup lang="ts">
import { type Box, type IdleMap, Looks, type Marker, type MarkerSource } from '@idlebeacon/map'
import Button from 'primevue/button'
import { nextTick, useTemplateRef, watch } from 'vue'
import { fetchBackdrop } from '../api/collections'
import type { FileSide } from '../api/imports'
import Icon from '../parts/Icon.vue'
import { counted } from '../text/format'

// Two parts of a file that mirror each other, each on a small map, and the question which of them is right.
const props = defineProps<{ sides: readonly FileSide[]; chosen: string }>()
const emit = defineEmits<{ choose: [within: string] }>()

const maps = useTemplateRef<IdleMap[]>('maps')
const looks = new Looks({ default: { icon: 'circle', colour: '#0072b2' } })

const boxOf = (side: FileSide): Box => {
  const [west = 0, south = 0, east = 0, north = 0] = side.bbox
  return { west, south, east, north }
}

function sourceOf(side: FileSide): MarkerSource {
  const markers = side.spots.map(([lon = 0, lat = 0], i): Marker => ({
    key: String(i),
    kind: 'place',
    at: { lon, lat },
    id: String(i),
    name: 'about here',
    category: '',
    drawing: { size: 12 },
    count: 1,
    tally: [],
    opensAt: null,
    extent: null,
    stacked: [],
  }))
  return { id: 'side', looks, load: () => Promise.resolve(markers) }
}

watch(
  () => props.sides,
  async (sides) => {
    await nextTick()
    const land = await fetchBackdrop().catch(() => null) // they are right without
    maps.value?.forEach((map, i) => {
      const side = sides[i]
      if (!side) return
      if (land) map.backdrop = land
      map.sources = [sourceOf(side)]
      // With what is around, which tells land from sea.
      const b = boxOf(side)
      const [width, height] = [b.east - b.west + 8, b.north - b.south + 6]
      map.fit(
        {
          west: Math.max(-180, b.west - width / 2),
          south: Math.max(-85, b.south - height / 2),
          east: Math.min(180, b.east + width / 2),
          north: Math.min(85, b.north + height / 2),
        },
        false,
      )
    })
  },
  { immediate: true },
)

const rows = (n: number) => counted(n, 'row', 'rows')
</script>

<template>
  <fieldset>
    <legend>Which of these are right?</legend>
    <p>Two parts of the file mirror each other: in one of them longitude and latitude are likely swapped.</p>
    <div class="sides">
      <div v-for="(side, i) in sides" :key="side.bbox.join()">
        <idle-map ref="maps" class="side" :aria-label="`Where ${rows(side.count)} are`" />
        <Button
          :label="`These ${rows(side.count)}`"
          size="small"
          :severity="chosen === side.bbox.join(',') ? 'primary' : 'secondary'"
          :aria-pressed="chosen === side.bbox.join(',')"
          :title="`Swap the ${rows(sides[1 - i]?.count ?? 0)} of the other map`"
          @click="emit('choose', side.bbox.join(','))"
        >
          <template #icon><Icon v-if="chosen === side.bbox.join(',')" name="check" /></template>
        </Button>
      </div>
    </div>
    <Button v-if="chosen" label="Both are right" size="small" text @click="emit('choose', '')" />
    <p v-else class="hint">If both are right, import the file as it is.</p>
  </fieldset>
</template>

<style scoped>
fieldset {
  margin: 0.6rem 0 0;
  padding: 0.5rem 0.7rem;
  border: 1px solid var(--rule);
  border-radius: 6px;
  min-width: 0;
}
legend {
  font-weight: 600;
}
.sides {
  display: grid;
  grid-template-columns: repeat(2, minmax(0, 1fr));
  gap: 0.6rem;
  margin: 0.5rem 0;
}
.side {
  height: 150px;
  min-height: 150px;
  margin-bottom: 0.4rem;
  border: 1px solid var(--rule);
  border-radius: 6px;
}
.hint {
  color: var(--soft);
}
</style>
