<script setup lang="ts">
import type { IdleMap } from '@idlebeacon/map'
import {
  circleAround,
  crossing,
  lengthOf,
  radiusOf,
  ringsOf,
  Sketch,
  type SketchShape,
  squareMetres,
} from '@idlebeacon/map/sketch'
import Button from 'primevue/button'
import { computed, onUnmounted, ref, shallowRef, watch } from 'vue'
import { measured, measuredArea } from './measures'
import { written } from './fields'

// The corners of a path, an area or a circle: drawn on the map, counted and measured here.
const props = defineProps<{ map: IdleMap; shape: SketchShape }>()
const emit = defineEmits<{ draw: [shape: SketchShape]; stay: [] }>() // stay: nothing is held any more

const sketch = shallowRef<Sketch>()
const drawing = ref(false)
const chosen = shallowRef<{ lat: string; lon: string } | null>(null)
let own = '' // what the sketch has told last

function look(): void {
  const s = sketch.value
  if (!s) return
  drawing.value = s.drawing
  const at = s.chosen && s.shape.lines[s.chosen.line]?.[s.chosen.index]
  chosen.value = at ? { lat: written(at.lat), lon: written(at.lon) } : null
}
function lay(): void {
  sketch.value?.remove()
  const s = (sketch.value = new Sketch(props.map, props.shape.kind, props.shape.lines))
  s.addEventListener('change', (e) => {
    own = JSON.stringify(s.shape)
    emit('draw', s.shape)
    if (!e.detail.held) emit('stay')
    look()
  })
  s.addEventListener('choose', look)
  look()
}
watch(
  () => props.shape,
  (now, before) => {
    if (!sketch.value || (before && now.kind !== before.kind)) lay()
    else if (JSON.stringify(now) !== own) {
      sketch.value.shape = now
      look()
    }
  },
  { immediate: true },
)
onUnmounted(() => sketch.value?.remove())

const closed = computed(() => props.shape.kind !== 'path')
const rings = computed(() => ringsOf(props.shape))
const corners = computed(() => props.shape.lines.reduce((n, l) => n + l.length, 0))
const length = computed(() =>
  rings.value.reduce((sum, r) => sum + lengthOf(closed.value ? [...r, ...r.slice(0, 1)] : r), 0),
)
const area = computed(() => squareMetres(props.shape))
const most = 2000 // corners up to which crossings are looked for
const crossed = computed(() =>
  corners.value <= most
    ? crossing(rings.value.map((points) => ({ points, closed: closed.value && points.length > 2 })))
    : null,
)
const told = computed(() => {
  const { kind, lines } = props.shape
  if (kind === 'circle')
    return lines[0]?.length === 2 ? `Radius ${measured(radiusOf(lines[0]))}, ${measuredArea(area.value)}` : ''
  return closed.value ? `${measuredArea(area.value)}, border ${measured(length.value)}` : measured(length.value)
})
const hint = computed(() => {
  if (props.shape.kind === 'circle')
    return drawing.value ? 'Click the middle of the circle, then its edge.' : 'Drag the middle or the edge.'
  if (!drawing.value) return 'Drag a corner to move it, or a spot between two to add one.'
  return `Click to add corners. ${closed.value ? 'Click the first one' : 'Click twice'} to end.`
})

function radius(metres: number): void {
  const [line] = props.shape.lines
  const middle = line?.[0]
  if (!middle || !(metres > 0)) return
  emit('draw', circleAround(middle, metres))
  emit('stay')
}
</script>

<template>
  <fieldset class="shape">
    <legend>{{ { path: 'Path', area: 'Area', circle: 'Circle' }[shape.kind] }}</legend>
    <p class="soft">{{ hint }}</p>
    <p v-if="told" role="status"
      >{{ told }}<span v-if="shape.kind !== 'circle'" class="soft"> · {{ corners }} corners</span></p
    >
    <p v-if="crossed" class="wrong" role="alert"
      >The lines cross near {{ written(crossed.lat) }}, {{ written(crossed.lon) }}.</p
    >
    <label v-if="shape.kind === 'circle' && shape.lines[0]?.length === 2"
      >Radius in metres
      <input
        type="number"
        min="1"
        :value="Math.round(radiusOf(shape.lines[0]))"
        @change="radius(Number(($event.target as HTMLInputElement).value))"
    /></label>
    <div class="buttons">
      <Button
        v-if="drawing && shape.kind !== 'circle'"
        label="End the line"
        size="small"
        severity="secondary"
        @click="sketch?.finish()"
      />
      <Button
        v-else-if="shape.kind !== 'circle'"
        :label="closed ? 'Add a hole or a part' : 'Add a part'"
        size="small"
        severity="secondary"
        @click="sketch?.begin()"
      />
      <Button
        v-if="drawing"
        :label="shape.kind === 'circle' ? 'Take the map centre' : 'Corner at the map centre'"
        size="small"
        severity="secondary"
        @click="sketch?.add(map.view.centre)"
      />
      <Button
        v-if="chosen && shape.kind !== 'circle'"
        label="Take this corner out"
        size="small"
        severity="secondary"
        @click="sketch?.drop()"
      />
    </div>
    <p v-if="chosen" class="soft"
      >Corner at {{ chosen.lat }}, {{ chosen.lon }}: arrow keys on the map move it by metres.</p
    >
  </fieldset>
</template>

<style scoped>
.shape {
  border: 1px solid var(--rule);
  border-radius: 6px;
  padding: 0.3rem 0.7rem 0.7rem;
}
.shape > * + * {
  margin-top: 0.4rem;
}
.buttons {
  display: flex;
  flex-wrap: wrap;
  gap: 0.4rem;
}
.wrong {
  color: var(--signal);
}
input {
  width: 8rem;
  padding: 0.3rem 0.5rem;
  border: 1px solid var(--rule);
  border-radius: 6px;
  background: var(--card);
  color: inherit;
  font: inherit;
}
</style>
