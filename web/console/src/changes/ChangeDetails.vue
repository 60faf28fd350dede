<script setup lang="ts">
import { computed } from 'vue'
import type { Geometry } from 'geojson'
import type { Change } from '../api/edits'
import { told } from '../edit/fields'
import { measured } from '../edit/measures'
import BeforeAfterMap from '../parts/BeforeAfterMap.vue'
import { memberOf } from './words'

// What a change did, member by member; of what was moved, a small map of from where to where.
const props = defineProps<{ change: Change }>()

interface Row {
  name: string
  was: string | null // null if it was not there
  is: string | null
}

const place = (value: unknown) => {
  const { type, coordinates } = value as { type?: string; coordinates?: unknown }
  const [lon, lat] = coordinates as number[]
  return type === 'Point' ? `${lat?.toFixed(6)}, ${lon?.toFixed(6)}` : (type ?? '')
}
const rows = computed<Row[]>(() => {
  const { differing, was, is } = props.change
  if (differing)
    return differing.map((d) => {
      const write = d.member === '/geometry' ? place : told
      return {
        name: memberOf(d.member),
        was: d.was === undefined ? null : write(d.was),
        is: d.is === undefined ? null : write(d.is),
      }
    })
  const only = is ?? was
  if (!only) return []
  const all = [['position', place(only.geometry)], ...Object.entries(only.properties).map(([k, v]) => [k, told(v)])]
  return all.map(([name = '', text = '']) => ({ name, was: is ? null : text, is: is ? text : null }))
})

/** How far a place was moved, in words; '' for another change. */
const moved = computed(() => {
  const at = (i: Change['was']) => (i?.geometry.type === 'Point' ? (i.geometry.coordinates as number[]) : null)
  const [from, to] = [at(props.change.was), at(props.change.is)]
  if (!from || !to || (from[0] === to[0] && from[1] === to[1])) return ''
  const degree = 111_195 // metres
  const x = ((to[0] ?? 0) - (from[0] ?? 0)) * degree * Math.cos(((from[1] ?? 0) * Math.PI) / 180)
  const y = ((to[1] ?? 0) - (from[1] ?? 0)) * degree
  return `moved by ${measured(Math.hypot(x, y))}`
})
const geometryOf = (i: Change['was']) => i?.geometry as Geometry | undefined
/** Whether where the item is has changed, so that a map says more than the numbers. */
const placed = computed(() => {
  const [was, is] = [geometryOf(props.change.was), geometryOf(props.change.is)]
  return (was ?? is) !== undefined && JSON.stringify(was) !== JSON.stringify(is)
})
</script>

<template>
  <div class="around">
    <div class="details">
      <figure v-if="placed">
        <BeforeAfterMap
          :was="geometryOf(change.was)"
          :is="geometryOf(change.is)"
          label="Small map: where it was, grey, and where it is, red"
        />
        <figcaption v-if="moved">{{ moved }}</figcaption>
      </figure>
      <table v-if="rows.length > 0">
        <thead>
          <tr>
            <th>Member</th>
            <th>Before</th>
            <th>After</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in rows" :key="r.name">
            <th dir="auto">{{ r.name }}</th>
            <td dir="auto"
              ><del v-if="r.was !== null">{{ r.was }}</del
              ><span v-else class="soft">—</span></td
            >
            <td dir="auto"
              ><ins v-if="r.is !== null">{{ r.is }}</ins
              ><span v-else class="soft">—</span></td
            >
          </tr>
        </tbody>
      </table>
    </div>
  </div>
</template>

<style scoped>
.around {
  container-type: inline-size;
}
.details {
  display: flex;
  align-items: flex-start;
  flex-wrap: wrap;
  gap: 0.5rem 1.2rem;
}
table {
  flex: 1 1 18rem;
  border-collapse: collapse;
}
th,
td {
  padding: 0.2rem 0.8rem 0.2rem 0;
  text-align: start;
  vertical-align: top;
  overflow-wrap: anywhere;
}
thead th {
  overflow-wrap: normal;
}
@container (max-width: 340px) {
  table {
    font-size: 0.85rem;
  }
  th,
  td {
    padding-inline-end: 0.45rem;
  }
}
tbody th {
  font-weight: 400;
  color: var(--soft);
  white-space: nowrap;
}
ins {
  text-decoration: none;
}
figure {
  margin: 0;
}
</style>
