<script setup lang="ts">
import type { IdleMap } from '@idlebeacon/map'
import { circleAround, radiusOf, type SketchShape } from '@idlebeacon/map/sketch'
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Message from 'primevue/message'
import { computed, defineAsyncComponent, onMounted, reactive, ref, shallowRef, useTemplateRef, watch } from 'vue'
import type { Group } from '../api/devices'
import { explain } from '../api/explain'
import { fetchItems, type Item } from '../api/items'
import { changeWatch, createWatch, tryWatch, type NoticeKind, type Watch, type WatchRule } from '../api/watches'
import Choice from '../parts/Choice.vue'
import { useCollections } from '../stores/collections'
import { useNotices } from '../stores/notices'
import { counted } from '../text/format'
import NoticeList from './NoticeList.vue'
import { kinds } from './words'

// Makes a watch, or changes one: what is noticed, of which devices, and where. A circle is drawn on the map.
const ShapeFields = defineAsyncComponent(() => import('../edit/ShapeFields.vue'))

const props = defineProps<{ map: IdleMap; groups: readonly Group[]; old: Watch | null }>()
const emit = defineEmits<{ done: []; close: [] }>()
const collections = useCollections()
const messages = useNotices()

const was = props.old?.rule
const whole = useTemplateRef('whole')
onMounted(() => {
  whole.value?.scrollIntoView({ block: 'start' })
  whole.value?.querySelector('input')?.focus({ preventScroll: true })
})
const form = reactive({
  title: props.old?.title ?? '',
  notices: new Set<NoticeKind>(was?.notices ?? ['entered', 'left']),
  stayed: (was?.stayed_for ?? 600) / 60, // minutes
  silent: (was?.silent_for ?? 900) / 60, // minutes
  faster: was?.faster_than ?? 8,
  nearer: was?.nearer_than ?? 50,
  where: placeOf(was),
  area: was?.where?.item && !was.where.radius ? `${was.where.collection ?? ''}/${was.where.item}` : '',
  around: was?.where?.device ?? '',
  radius: was?.where?.radius ?? 500,
  group: was?.groups?.[0] ?? '',
  state: was?.state?.length === 1 ? (was.state[0] ?? '') : '', // both are as good as none
  from: was?.hours?.from ?? '',
  to: was?.hours?.to ?? '',
})
function placeOf(r: WatchRule | undefined): string {
  if (!r) return 'circle'
  if (!r.where) return 'anywhere'
  if (r.where.device) return 'device'
  return r.where.item ? (r.where.radius ? 'place' : 'area') : 'circle'
}
const circle = shallowRef<SketchShape>(circleOf(was?.where))
function circleOf(w: WatchRule['where']): SketchShape {
  if (w?.longitude === undefined || w.latitude === undefined) return { kind: 'circle', lines: [] }
  return circleAround({ lon: w.longitude, lat: w.latitude }, w.radius ?? 0)
}

const places = computed(() => [
  { value: 'circle', label: 'A circle on the map' },
  { value: 'area', label: 'An area of a collection' },
  ...(form.where === 'place' ? [{ value: 'place', label: 'A circle around a place' }] : []),
  { value: 'device', label: 'A circle around a device' },
  { value: 'anywhere', label: 'Anywhere' },
])
const groupChoices = computed(() => [
  { value: '', label: 'All devices' },
  ...props.groups.map((g) => ({ value: g.id, label: g.title || g.id })),
])
const states = [
  { value: '', label: 'Moving or still' },
  { value: 'moving', label: 'Only while moving' },
  { value: 'still', label: 'Only while still' },
]

// The areas that may be watched.
const areas = ref<{ value: string; label: string }[]>([])
const most = 500 // areas of a collection
watch(
  () => form.where === 'area' && (collections.collections ?? []).filter((c) => c.shapes > 0).map((c) => c.id),
  async (ids) => {
    if (!ids) return
    const found: typeof areas.value = []
    for (const id of ids) {
      const page = await fetchItems(id, { filter: '', sort: '', offset: 0, limit: most }).catch(() => null)
      for (const item of page?.items ?? [])
        if (isArea(item)) found.push({ value: `${id}/${item.id}`, label: nameOf(item) })
    }
    areas.value = found.sort((a, b) => a.label.localeCompare(b.label))
    if (!form.area) form.area = found[0]?.value ?? ''
  },
  { immediate: true },
)
const isArea = (item: Item) => item.geometry.type === 'Polygon' || item.geometry.type === 'MultiPolygon'
const nameOf = (item: Item) => (typeof item.properties.name === 'string' ? item.properties.name : item.id)

const needsArea = computed(() => kinds.some((k) => k.area && form.notices.has(k.kind)))
const numbers: Partial<Record<NoticeKind, { model: 'stayed' | 'silent' | 'faster' | 'nearer'; unit: string }>> = {
  stayed: { model: 'stayed', unit: 'min' },
  fast: { model: 'faster', unit: 'm/s' },
  silent: { model: 'silent', unit: 'min' },
  near: { model: 'nearer', unit: 'm' },
}
function turn(kind: NoticeKind, on: boolean): void {
  const next = new Set(form.notices)
  if (on) next.add(kind)
  else next.delete(kind)
  form.notices = next
}

const line = computed(() => [...(circle.value.lines[0] ?? [])]) // the sketch goes on with its own
const missing = computed(() => {
  if (form.notices.size === 0) return 'Choose what is noticed.'
  if (form.where === 'anywhere' && needsArea.value) return 'Say where: something enters, leaves or stays in an area.'
  if (form.where === 'circle' && line.value.length < 2) return 'Draw the circle on the map.'
  if (form.where === 'area' && !form.area) return 'There is no area. Draw one in a collection first.'
  if (form.where === 'device' && !form.around.trim()) return 'Name the device in the middle.'
  return ''
})

function rule(): WatchRule {
  const has = (k: NoticeKind) => form.notices.has(k)
  const r: WatchRule = {
    ...(was?.margin !== undefined && { margin: was.margin }),
    ...(was?.worst_accuracy !== undefined && { worst_accuracy: was.worst_accuracy }),
    ...(was?.filter && { filter: was.filter }),
    ...(was?.devices && { devices: was.devices }),
    notices: kinds.map((k) => k.kind).filter(has),
    ...(has('stayed') && { stayed_for: form.stayed * 60 }),
    ...(has('silent') && { silent_for: form.silent * 60 }),
    ...(has('fast') && { faster_than: form.faster }),
    ...(has('near') && { nearer_than: form.nearer }),
    ...(form.group && { groups: form.group === was?.groups?.[0] ? was.groups : [form.group] }),
    ...(form.state && { state: [form.state as 'moving' | 'still'] }),
  }
  if (form.from && form.to) {
    const zone = was?.hours?.zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone
    r.hours = { from: form.from, to: form.to, zone, ...(was?.hours?.days && { days: was.hours.days }) }
  }
  const [middle] = line.value
  if (form.where === 'circle' && middle)
    r.where = { longitude: middle.lon, latitude: middle.lat, radius: Math.round(radiusOf(line.value)) }
  if (form.where === 'place' && was?.where) r.where = was.where
  if (form.where === 'device') r.where = { device: form.around.trim(), radius: form.radius }
  if (form.where === 'area') {
    const cut = form.area.indexOf('/')
    r.where = { collection: form.area.slice(0, cut), item: form.area.slice(cut + 1) }
  }
  return r
}

const busy = ref(false)
const problem = ref<string | null>(null)
const tried = shallowRef<Awaited<ReturnType<typeof tryWatch>> | null>(null)
async function doing(f: () => Promise<void>): Promise<void> {
  busy.value = true
  problem.value = null
  try {
    await f()
  } catch (e) {
    problem.value = explain(e)
  } finally {
    busy.value = false
  }
}
const hours = 6
const attempt = () => doing(async () => void (tried.value = await tryWatch(rule(), hours)))

/** An id of the title: small letters and digits with - between, and a few more so that no other has it. */
function idOf(title: string): string {
  const words = title
    .normalize('NFD')
    .replace(/\p{M}/gu, '')
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, '-')
    .replace(/^-+|-+$/g, '')
    .slice(0, 40)
  return `${words || 'watch'}-${Math.random().toString(36).slice(2, 6)}`
}
const save = () =>
  doing(async () => {
    const title = form.title.trim()
    if (props.old) await changeWatch(props.old.id, { title, rule: rule() })
    else await createWatch({ id: idOf(title), title, rule: rule() })
    messages.done(props.old ? `The watch ${title || props.old.id} is changed.` : 'The watch is made.')
    emit('done')
  })
</script>

<template>
  <form ref="whole" class="watch" @submit.prevent="save">
    <label
      >Title <InputText v-model="form.title" size="small" maxlength="100" placeholder="Boats in the sound"
    /></label>
    <fieldset>
      <legend>It is noticed when a device</legend>
      <div v-for="k in kinds" :key="k.kind" class="kind">
        <label>
          <input
            type="checkbox"
            :checked="form.notices.has(k.kind)"
            @change="turn(k.kind, ($event.target as HTMLInputElement).checked)"
          />
          {{ k.label }}
        </label>
        <template v-if="numbers[k.kind] && form.notices.has(k.kind)">
          <input
            v-model.number="form[numbers[k.kind]!.model]"
            type="number"
            min="0.1"
            step="any"
            :aria-label="`${k.label}, in ${numbers[k.kind]!.unit}`"
          />
          {{ numbers[k.kind]!.unit }}
        </template>
      </div>
    </fieldset>
    <label>Where <Choice v-model="form.where" :options="places" label="Where" /></label>
    <ShapeFields v-if="form.where === 'circle'" :map="map" :shape="circle" @draw="circle = $event" />
    <label v-if="form.where === 'area' && areas.length > 0"
      >Area <Choice v-model="form.area" :options="areas" label="Area"
    /></label>
    <template v-if="form.where === 'device'">
      <label>Device <InputText v-model="form.around" size="small" placeholder="WB-07" /></label>
      <label>Radius in metres <input v-model.number="form.radius" type="number" min="1" max="5000" /></label>
    </template>
    <label>Of <Choice v-model="form.group" :options="groupChoices" label="Of which devices" /></label>
    <label>While <Choice v-model="form.state" :options="states" label="While they do what" /></label>
    <div class="hours">
      <label>From <input v-model="form.from" type="time" /></label>
      <label>to <input v-model="form.to" type="time" /></label>
      <span class="soft">{{ form.from && form.to ? '' : 'at any time' }}</span>
    </div>
    <p v-if="missing" class="soft">{{ missing }}</p>
    <Message v-if="problem" severity="error">{{ problem }}</Message>
    <div class="buttons">
      <Button type="submit" :label="old ? 'Save' : 'Make it'" size="small" :disabled="busy || missing !== ''" />
      <Button
        :label="`Try it on ${hours} hours`"
        size="small"
        severity="secondary"
        :disabled="busy || missing !== ''"
        @click="attempt"
      />
      <Button label="Cancel" size="small" severity="secondary" variant="text" @click="emit('close')" />
    </div>
    <div v-if="tried" class="tried" role="status">
      <p
        >In the last {{ hours }} hours it would have noticed {{ tried.more ? 'more than ' : ''
        }}{{ counted(tried.notices.length, 'thing', 'things') }} of
        {{ counted(tried.devices, 'device', 'devices') }}.</p
      >
      <NoticeList
        :notices="[...tried.notices].reverse().slice(0, 10)"
        @show="
          map.travelTo({ centre: { lon: $event.longitude, lat: $event.latitude }, zoom: Math.max(map.view.zoom, 14) })
        "
      />
    </div>
  </form>
</template>

<style scoped>
.watch {
  display: grid;
  gap: 0.6rem;
  padding: 0.6rem 0;
}
.watch > label {
  display: grid;
  gap: 0.2rem;
  color: var(--soft);
  font-size: 0.88rem;
}
fieldset {
  border: 1px solid var(--rule);
  border-radius: 6px;
  padding: 0.5rem 0.7rem;
  margin: 0;
}
legend {
  font-size: 0.88rem;
  color: var(--soft);
}
.kind {
  display: flex;
  align-items: center;
  gap: 0.4rem;
  min-height: 2rem;
}
.kind label {
  flex: 1;
}
input[type='number'] {
  width: 5.5rem;
}
input[type='number'],
input[type='time'] {
  padding: 0.2rem 0.4rem;
  border: 1px solid var(--rule);
  border-radius: 6px;
  background: var(--card);
  color: inherit;
  font: inherit;
}
.hours,
.buttons {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem;
  align-items: center;
}
.soft {
  color: var(--soft);
  margin: 0;
}
.tried p {
  margin: 0 0 0.3rem;
}
</style>
