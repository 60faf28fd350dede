<script setup lang="ts">
import { type Box, type IdleMap, Looks, type Marker, type MarkerSource, type Shape, type Style } from '@idlebeacon/map'
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Message from 'primevue/message'
import ProgressBar from 'primevue/progressbar'
import { computed, nextTick, onUnmounted, ref, shallowRef, useTemplateRef, watch } from 'vue'
import {
  type Collection,
  fetchBackdrop,
  type FileOptions,
  type ImportReport,
  inspectFile,
  type Inspection,
  ProblemError,
  rejectedPath,
  type Setting,
} from './api/client'
import { extentOf } from './extent'
import FileNotes from './FileNotes.vue'
import { idOf } from './idOf'
import MirroredSides from './MirroredSides.vue'
import { type Stage, useImports } from './useImports'

// A short way from a file to places on the map: choose it, see what was recognised, change that, import.
const props = defineProps<{ collections: Collection[] }>()
const emit = defineEmits<{ imported: [collection: string]; show: [box: Box | null] }>()

const map = useTemplateRef<IdleMap>('map')
const file = shallowRef<File | null>(null)
const found = shallowRef<Inspection | null>(null)
const problem = ref<string | null>(null)
const busy = ref(false)
const over = ref(false) // a file is dragged over the page
const roles = ref<Record<string, string>>({}) // of columns, where they are not as found
const types = ref<Record<string, string>>({}) // likewise
const fixes = ref<string[]>([])
const noValue = ref<string[]>([]) // words that stand for no value, as they stand in a list
const within = ref('') // which of two parts of the file that mirror each other is right
const into = ref('') // the collection, or "" for a new one
const title = ref('')
const nameProperty = ref('')
const categoryProperty = ref('')
const sides = shallowRef<NonNullable<Inspection['report']['notes'][number]['sides']>>([]) // of a file with two that mirror each other
const imports = useImports()
const progress = shallowRef<Stage | null>(null) // while it is being imported
const report = shallowRef<ImportReport | null>(null)
let looking = new AbortController() // at the file
let importing = new AbortController()
let asked = '' // what was looked at last, and how
let guessed = false // name and category have been proposed for this file

const formatNames: Record<string, string> = {
  csv: 'CSV',
  geojson: 'GeoJSON',
  'geojson-lines': 'GeoJSON, a feature on each line',
  'geojson-seq': 'a GeoJSON text sequence',
  kml: 'KML',
  kmz: 'KMZ',
  gpx: 'GPX',
}
const roleNames = {
  longitude: 'lon_column',
  latitude: 'lat_column',
  geometry: 'geometry_column',
  id: 'id_column',
} as const
const allTypes = {
  text: 'text',
  number: 'number',
  decimal_comma: 'number, 1.390,5',
  decimal_point: 'number, 1,390.5',
  boolean: 'boolean',
  date: 'date',
  timestamp: 'timestamp',
}
const fixLabels: Record<string, string> = {
  swap_doubtful: 'Swap latitude and longitude in rows that fit only so',
  skip_zero: 'Leave out rows at 0, 0',
  decimal_comma: 'Read decimal commas in coordinates',
  sexagesimal: 'Read degrees, minutes and seconds',
  web_mercator: 'Read metres as Web Mercator (EPSG:3857)',
}

/** The fixes that the rows give reason to offer. */
const offered = computed(() => {
  const told = [...(found.value?.report.errors ?? []), ...(found.value?.report.doubts ?? [])].flatMap(
    (row) => row.fix ?? [],
  )
  return Object.keys(fixLabels).filter((fix) => told.includes(fix) || (fixes.value.includes(fix) && !within.value))
})
const options = computed<FileOptions>(() => {
  const o: FileOptions = {}
  for (const [column, role] of Object.entries(roles.value))
    if (role in roleNames) o[roleNames[role as keyof typeof roleNames]] = column
  const typed = Object.entries(types.value).map(([column, type]) => `${column.replace(/[\\,]/g, '\\$&')}:${type}`)
  if (typed.length > 0) o.type = typed.join(',')
  const mend = within.value && !fixes.value.includes('swap_doubtful') ? [...fixes.value, 'swap_doubtful'] : fixes.value
  if (mend.length > 0) o.fix = mend.join(',')
  if (noValue.value.length > 0) o.no_value = noValue.value.join(',')
  if (within.value) o.within = within.value
  return o
})
/** What a fix would do. */
function told(fix: string): string {
  const note = found.value?.report.notes.find((n) => n.kind === 'fix' && n.about === fix)
  if (!note?.count || !note.of) return ''
  const far = note.alone
    ? `; ${note.alone === 1 ? '1 of them' : `${note.alone} of them`} would then lie where nothing else of the file is`
    : ''
  const many =
    note.count > 1 && note.count * 50 > note.of ? '. That is more than a small share: look at them first' : ''
  return `${note.count.toLocaleString('en')} of ${rows(note.of)}${far}${many}`
}

/** Of a table, that nobody has said or recognised where its rows are. */
const unplaced = computed(() => isTable.value && found.value?.report.stopped && found.value.report.rows === 0)
const isTable = computed(() => found.value?.format === 'csv')
const properties = computed(() => found.value?.columns.filter((c) => !c.role).map((c) => c.name) ?? [])
const newID = computed(() => {
  const id = idOf(title.value) || 'places'
  let free = id
  for (let n = 2; props.collections.some((c) => c.id === free); n++) free = `${id}-${n}`
  return free
})

function choose(chosen: File | undefined): void {
  if (!chosen) return
  file.value = chosen
  roles.value = {}
  types.value = {}
  fixes.value = []
  noValue.value = []
  within.value = ''
  sides.value = []
  asked = ''
  report.value = found.value = null
  title.value = chosen.name
    .replace(/\.(gz|zst)$/i, '')
    .replace(/\.[^.]*$/, '')
    .replace(/[_-]+/g, ' ')
  guessed = false
  void inspect()
}

function drop(e: DragEvent): void {
  over.value = false
  choose(e.dataTransfer?.files[0])
}

async function inspect(): Promise<void> {
  if (!file.value) return
  const category = guessed ? categoryProperty.value : null
  const question = JSON.stringify([into.value, options.value, guessed && category])
  if (question === asked) return // it is on its way, or here
  asked = question
  looking.abort()
  const mine = (looking = new AbortController())
  busy.value = true
  problem.value = null
  try {
    found.value = await inspectFile(file.value, into.value, options.value, category, mine.signal)
    if (!guessed) {
      guessed = true
      nameProperty.value = found.value.name_property
      categoryProperty.value = found.value.category_property
      asked = JSON.stringify([into.value, options.value, categoryProperty.value])
    }
    // The question stays while it is being answered.
    sides.value =
      found.value.report.notes.find((n) => n.kind === 'mirrored')?.sides ?? (within.value ? sides.value : [])
    await nextTick()
    preview()
  } catch (e) {
    if (mine.signal.aborted) return
    asked = ''
    problem.value = said(e)
  }
  if (!mine.signal.aborted) busy.value = false
}
watch([options, into], () => {
  if (progress.value === null && report.value === null) void inspect()
})
onUnmounted(() => looking.abort()) // what is being imported goes on

/** Sets what a note about the file offers. */
function set(settings: readonly Setting[]): void {
  for (const { option, value } of settings) {
    if (option === 'no_value') noValue.value = [...new Set([...noValue.value, value])]
    if (option === 'type')
      types.value = {
        ...types.value,
        [value.slice(0, value.lastIndexOf(':')).replace(/\\([\\,])/g, '$1')]: value.slice(value.lastIndexOf(':') + 1),
      }
  }
}

const cancelled = 'Cancelled: nothing was imported.'
const sentence = (text: string) => text.replace(/^./, (c) => c.toUpperCase())
const said = (e: unknown) => (e instanceof ProblemError ? sentence(e.message) : 'The service does not answer.')

function setRole(column: string, role: string): void {
  const others = Object.fromEntries(Object.entries(roles.value).filter(([c, r]) => c !== column && r !== role))
  roles.value = { ...others, [column]: role }
}

/** Shows the first rows on the small map. */
function preview(): void {
  const features = found.value?.features ?? []
  const text = (properties: unknown, name: string) => String((properties as Record<string, unknown>)[name] ?? '')
  const markers: Marker[] = []
  const shapes: Shape[] = []
  features.forEach((f, i) => {
    const name = nameProperty.value ? text(f.properties, nameProperty.value) : ''
    const category = categoryProperty.value ? text(f.properties, categoryProperty.value) : ''
    if (f.geometry.type === 'Point') {
      const [lon = 0, lat = 0] = (f.geometry.coordinates ?? []) as number[]
      markers.push({
        key: String(i),
        kind: 'place',
        at: { lon, lat },
        id: String(i),
        name: name || f.id || `row ${i + 1}`,
        category,
        drawing: {},
        count: 1,
        tally: [],
        opensAt: null,
        extent: null,
        stacked: [],
      })
    } else
      shapes.push({
        id: String(i),
        name: name || f.id || `row ${i + 1}`,
        category,
        drawing: {},
        geometry: f.geometry as GeoJSON.Geometry,
      })
  })
  const source: MarkerSource = {
    id: 'preview',
    looks: new Looks((found.value?.style ?? { default: {} }) as Style),
    load: () => Promise.resolve(markers),
    shapes: () => Promise.resolve(shapes),
  }
  if (!map.value) return
  map.value.sources = [source]
  const box = extentOf(features.map((f) => f.geometry))
  if (box) map.value.fit(box, false)
}

async function run(): Promise<void> {
  if (!file.value) return
  const mine = (importing = new AbortController())
  progress.value = { name: 'Sending', share: 0 }
  problem.value = null
  try {
    const id = into.value || newID.value
    const make = into.value
      ? null
      : {
          title: title.value.trim() || id,
          name_property: nameProperty.value,
          category_property: categoryProperty.value,
        }
    const done = await imports.run(
      file.value,
      id,
      make,
      options.value,
      (stage) => (progress.value = stage),
      mine.signal,
    )
    if (done.status === 'successful') {
      report.value = done.report ?? null
      into.value = id
      emit('imported', id)
    } else problem.value = done.status === 'dismissed' ? cancelled : sentence(done.problem ?? 'nothing was imported')
  } catch (e) {
    problem.value = e instanceof DOMException ? cancelled : said(e)
  }
  void imports.refresh()
  progress.value = null
}

function again(): void {
  looking.abort()
  file.value = found.value = report.value = null
  into.value = ''
  problem.value = null
}

watch(map, async () => {
  const land = await fetchBackdrop().catch(() => null) // the map is right without
  if (map.value && land) map.value.backdrop = land
})

const box = computed<Box | null>(() => {
  const [west, south, east, north] = props.collections.find((c) => c.id === into.value)?.extent?.spatial.bbox[0] ?? []
  return west === undefined || south === undefined || east === undefined || north === undefined
    ? null
    : { west, south, east, north }
})
const rows = (n: number) => `${n.toLocaleString('en')} ${n === 1 ? 'row' : 'rows'}`
const amount = computed(() => {
  if (!found.value || unplaced.value) return ''
  const counted = rows(found.value.report.rows)
  return found.value.whole ? `, ${counted}` : `, the first ${counted} looked at`
})
/** cell returns the value of a property, as the table shows it. */
function cell(f: { properties?: unknown }, property: string): unknown {
  return (f.properties as Record<string, unknown> | undefined)?.[property] ?? ''
}
</script>

<template>
  <section
    class="import"
    aria-labelledby="import-title"
    :class="{ over }"
    @dragover.prevent="over = true"
    @dragleave="over = false"
    @drop.prevent="drop"
  >
    <h2 id="import-title">Import a file</h2>
    <div v-if="!file" class="drop">
      <p>Drop a file here, or</p>
      <label class="pick">
        <input
          type="file"
          accept=".csv,.tsv,.txt,.json,.geojson,.geojsonl,.geojsons,.kml,.kmz,.gpx,.gz,.zst"
          @change="choose(($event.target as HTMLInputElement).files?.[0])"
        />
        choose one
      </label>
      <p class="hint">CSV, GeoJSON, KML, KMZ or GPX. You see what is in it before anything is imported.</p>
    </div>
    <template v-else>
      <p class="file">
        <b>{{ file.name }}</b>
        <span v-if="found"> · read as {{ formatNames[found.format] ?? found.format }}{{ amount }}</span>
        <Button label="Another file" size="small" text :disabled="progress !== null" @click="again" />
      </p>
      <Message v-if="problem" severity="error" class="said">{{ problem }}</Message>
      <Message v-if="unplaced && !report" severity="warn" class="said"
        >Choose below which columns hold the longitude and the latitude, or a geometry.</Message
      >
      <Message v-else-if="found?.report.stopped && !report" severity="error" class="said">{{
        sentence(found.report.stopped)
      }}</Message>
      <div v-if="found && !report" class="columns">
        <div class="left">
          <div class="scroll">
            <table>
              <thead>
                <tr>
                  <th scope="col">Column</th>
                  <th scope="col">What it is</th>
                  <th scope="col">Type</th>
                  <th scope="col">Such as</th>
                </tr>
              </thead>
              <tbody>
                <tr v-for="c in found.columns" :key="c.name">
                  <th scope="row">{{ c.name }}</th>
                  <td>
                    <select
                      v-if="isTable"
                      :disabled="progress !== null"
                      :value="c.role ?? ''"
                      :aria-label="`What ${c.name} is`"
                      @change="setRole(c.name, ($event.target as HTMLSelectElement).value)"
                    >
                      <option value="">property</option>
                      <option v-for="(_, role) in roleNames" :key="role" :value="role">{{ role }}</option>
                    </select>
                    <template v-else>property</template>
                  </td>
                  <td>
                    <select
                      v-if="!c.role && !found.format.startsWith('geojson')"
                      :disabled="progress !== null"
                      :value="types[c.name] ?? c.type"
                      :aria-label="`Type of ${c.name}`"
                      @change="types = { ...types, [c.name]: ($event.target as HTMLSelectElement).value }"
                    >
                      <option v-for="(label, t) in allTypes" :key="t" :value="t">{{ label }}</option>
                    </select>
                    <template v-else-if="!c.role">{{ c.type }}</template>
                  </td>
                  <td class="samples" dir="auto">{{ c.samples?.join(' · ') }}</td>
                </tr>
              </tbody>
            </table>
          </div>
          <details class="rows">
            <summary>The first rows</summary>
            <div class="scroll">
              <table>
                <thead>
                  <tr>
                    <th v-for="p in properties" :key="p" scope="col">{{ p }}</th>
                  </tr>
                </thead>
                <tbody>
                  <tr v-for="(f, i) in found.features.slice(0, 8)" :key="i">
                    <td v-for="p in properties" :key="p" class="samples" dir="auto">{{ cell(f, p) }}</td>
                  </tr>
                </tbody>
              </table>
            </div>
          </details>
          <div class="choices">
            <label>
              Name
              <select v-model="nameProperty" :disabled="into !== '' || progress !== null" @change="preview">
                <option value="">none</option>
                <option v-for="p in properties" :key="p">{{ p }}</option>
              </select>
            </label>
            <label>
              Category
              <select v-model="categoryProperty" :disabled="into !== '' || progress !== null" @change="inspect">
                <option value="">none</option>
                <option v-for="p in properties" :key="p">{{ p }}</option>
              </select>
            </label>
          </div>
        </div>
        <div class="right">
          <idle-map ref="map" class="preview" />
          <MirroredSides v-if="sides.length === 2" :sides="sides" :chosen="within" @choose="(box) => (within = box)" />
          <FileNotes :notes="found.report.notes" :settable="progress === null" @set="set" />
          <p v-if="noValue.length > 0" class="set"
            >No value: {{ noValue.join(', ') }} <Button label="Take back" size="small" text @click="noValue = []"
          /></p>
          <div
            v-if="found.report.rejected + found.report.doubtful + found.report.mended > 0 || offered.length > 0"
            class="doubts"
          >
            <p v-if="found.report.rejected > 0">{{ rows(found.report.rejected) }} cannot be used:</p>
            <ul>
              <li v-for="e in found.report.errors.slice(0, 4)" :key="e.row">row {{ e.row }}: {{ e.reason }}</li>
            </ul>
            <p v-if="found.report.doubtful > 0">{{ rows(found.report.doubtful) }} may be in the wrong place:</p>
            <ul>
              <li v-for="d in found.report.doubts.slice(0, 4)" :key="d.row">row {{ d.row }}: {{ d.reason }}</li>
            </ul>
            <p v-if="found.report.mended > 0" role="status">{{ rows(found.report.mended) }} will be mended.</p>
            <label v-for="f in offered" :key="f" class="fix">
              <input v-model="fixes" type="checkbox" :value="f" :disabled="progress !== null" /> {{ fixLabels[f] }}
              <span v-if="told(f)" class="would">{{ told(f) }}</span>
            </label>
          </div>
        </div>
      </div>
      <p v-else-if="busy" role="status">Looking at the file …</p>
      <div v-if="found && !report" class="go">
        <label>
          Into
          <select v-model="into" :disabled="progress !== null">
            <option value="">a new collection</option>
            <option v-for="c in collections" :key="c.id" :value="c.id">{{ c.title }}</option>
          </select>
        </label>
        <label v-if="!into"
          >Title <InputText v-model="title" size="small" maxlength="200" :disabled="progress !== null"
        /></label>
        <template v-if="progress === null">
          <Button
            label="Import"
            icon="pi pi-upload"
            :disabled="busy || found.report.stopped !== undefined || found.report.rows === found.report.rejected"
            @click="run"
          />
        </template>
        <template v-else>
          <ProgressBar :value="Math.round(progress.share * 100)" class="bar" :aria-label="progress.name" />
          <span role="status">{{ progress.name }} …</span>
          <Button label="Cancel" severity="secondary" @click="importing.abort()" />
        </template>
      </div>
      <div v-if="report" class="done">
        <Message severity="success" class="said">
          {{ rows(report.rows) }} read: {{ report.created.toLocaleString('en') }} new,
          {{ report.replaced.toLocaleString('en') }} replaced, {{ report.unchanged.toLocaleString('en') }} unchanged,
          {{ report.rejected.toLocaleString('en') }} rejected.
        </Message>
        <FileNotes :notes="report.notes" :settable="false" />
        <ul v-if="report.errors.length > 0">
          <li v-for="e in report.errors.slice(0, 6)" :key="e.row">row {{ e.row }}: {{ e.reason }}</li>
        </ul>
        <div class="go">
          <Button label="Show on map" icon="pi pi-map" @click="emit('show', box)" />
          <a v-if="report.kept > 0" :href="rejectedPath(report.import ?? '')" download
            ><i class="pi pi-download" aria-hidden="true" /> Rejected rows, to correct and import again</a
          >
          <Button label="Import another file" severity="secondary" text @click="again" />
        </div>
      </div>
    </template>
  </section>
</template>

<style scoped>
.import {
  padding: 1rem;
  border: 1px solid var(--rule);
  border-radius: 10px;
  background: var(--card);
}
.over {
  outline: 3px dashed var(--soft);
  outline-offset: -6px;
}
h2 {
  font-size: 1rem;
  margin-bottom: 0.6rem;
}
.drop {
  display: flex;
  flex-wrap: wrap;
  align-items: baseline;
  gap: 0.5rem;
}
.pick {
  position: relative;
  text-decoration: underline;
  cursor: pointer;
}
.pick input {
  position: absolute;
  inset: 0;
  opacity: 0;
  cursor: pointer;
}
.pick:focus-within {
  outline: 3px solid var(--signal);
}
.hint {
  flex-basis: 100%;
  color: var(--soft);
  font-size: 0.9rem;
}
.file {
  overflow-wrap: anywhere;
}
.said {
  margin: 0.5rem 0;
}
.columns {
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(0, 2fr);
  gap: 1rem;
  margin-top: 0.6rem;
}
.scroll {
  overflow: auto;
  max-height: 320px;
  border: 1px solid var(--rule);
  border-radius: 6px;
}
table {
  width: 100%;
  border-collapse: collapse;
  font-size: 0.88rem;
}
th,
td {
  padding: 0.25rem 0.5rem;
  text-align: start;
  border-bottom: 1px solid var(--rule);
  white-space: nowrap;
}
thead th {
  position: sticky;
  top: 0;
  background: var(--card);
}
.samples {
  max-width: 220px;
  overflow: hidden;
  text-overflow: ellipsis;
  color: var(--soft);
}
.rows {
  margin-top: 0.6rem;
}
.preview {
  height: 240px;
  border: 1px solid var(--rule);
  border-radius: 6px;
}
.choices,
.go {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.8rem;
  margin-top: 0.8rem;
}
.doubts {
  margin-top: 0.6rem;
  font-size: 0.88rem;
}
.doubts ul,
.done ul {
  margin: 0.1rem 0 0.4rem;
  padding-inline-start: 1.2rem;
}
.fix {
  display: block;
  padding: 0.15rem 0;
}
.would {
  display: block;
  padding-inline-start: 1.4rem;
  color: var(--soft);
}
.set {
  margin-top: 0.3rem;
  font-size: 0.88rem;
}
.bar {
  width: 180px;
}
select {
  padding: 0.25rem 0.3rem;
  border: 1px solid var(--rule);
  border-radius: 5px;
  background: var(--card);
  color: inherit;
  font: inherit;
}
@media (max-width: 760px) {
  .columns {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
