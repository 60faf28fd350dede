<script setup lang="ts">
import type { Box } from '@idlebeacon/map'
import progressbar from '@primeuix/themes/aura/progressbar'
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Message from 'primevue/message'
import ProgressBar from 'primevue/progressbar'
import { computed, ref, shallowRef } from 'vue'
import type { Collection } from '../api/collections'
import { explain, isBrokenOff, sentence } from '../api/explain'
import type { ImportReport } from '../api/imports'
import { boxOf } from '../api/selection'
import Choice from '../parts/Choice.vue'
import Icon from '../parts/Icon.vue'
import { type Stage, useImports } from '../stores/imports'
import { counted } from '../text/format'
import { addToTheme } from '../theme'
import FileChooser from './FileChooser.vue'
import FileColumns from './FileColumns.vue'
import FileFixes from './FileFixes.vue'
import FileNotes from './FileNotes.vue'
import FilePreview from './FilePreview.vue'
import { idOf } from './idOf'
import ImportOutcome from './ImportOutcome.vue'
import MirroredSides from './MirroredSides.vue'
import { useInspection } from './useInspection'
import { formatNames } from './words'

// A short way from a file to places on the map: choose it, see what was recognised, change that, import.
const props = defineProps<{ collections: Collection[] }>()
const emit = defineEmits<{ imported: [collection: string]; show: [box: Box | null] }>()

addToTheme({ progressbar })
const imports = useImports()
const over = ref(false) // a file is dragged over the page
const into = ref('') // the collection, or "" for a new one
const title = ref('')
const progress = shallowRef<Stage | null>(null) // while it is being imported
const report = shallowRef<ImportReport | null>(null)
let importing = new AbortController()

const inspection = useInspection(into, () => progress.value !== null || report.value !== null)
const { file, found, problem, busy, types, fixes, noValue, within, sides, properties, offered, unplaced } = inspection
const { nameProperty, categoryProperty } = inspection

const targets = computed(() => [
  { value: '', label: 'a new collection' },
  ...props.collections.map((c) => ({ value: c.id, label: c.title })),
])
const propertyChoices = computed(() => [
  { value: '', label: 'none' },
  ...properties.value.map((p) => ({ value: p, label: p })),
])
const newID = computed(() => {
  const id = idOf(title.value) || 'places'
  let free = id
  for (let n = 2; props.collections.some((c) => c.id === free); n++) free = `${id}-${n}`
  return free
})
const amount = computed(() => {
  if (!found.value || unplaced.value) return ''
  const rows = counted(found.value.report.rows, 'row', 'rows')
  return found.value.whole ? `, ${rows}` : `, the first ${rows} looked at`
})
const usable = computed(() => {
  const r = found.value?.report
  return r !== undefined && r.stopped === undefined && r.rows > r.rejected
})

function choose(chosen: File | undefined): void {
  if (!chosen) return
  report.value = null
  title.value = chosen.name
    .replace(/\.(gz|zst)$/i, '')
    .replace(/\.[^.]*$/, '')
    .replace(/[_-]+/g, ' ')
  inspection.take(chosen)
}
function drop(e: DragEvent): void {
  over.value = false
  choose(e.dataTransfer?.files[0])
}
function again(): void {
  inspection.take(null)
  report.value = null
  into.value = ''
}

const cancelled = 'Cancelled: nothing was imported.'

async function run(): Promise<void> {
  if (!file.value) return
  const { signal } = (importing = new AbortController())
  progress.value = { name: 'Sending', share: 0 }
  problem.value = null
  const id = into.value || newID.value
  const make = into.value
    ? null
    : {
        title: title.value.trim() || id,
        name_property: nameProperty.value,
        category_property: categoryProperty.value,
      }
  const tell = (stage: Stage) => (progress.value = stage)
  try {
    const done = await imports.run(file.value, id, make, inspection.options.value, tell, signal)
    if (done.status === 'successful') {
      report.value = done.report ?? null
      into.value = id
      emit('imported', id)
    } else problem.value = done.status === 'dismissed' ? cancelled : sentence(done.problem ?? 'nothing was imported')
  } catch (e) {
    problem.value = isBrokenOff(e) ? cancelled : explain(e)
  }
  void imports.refresh()
  progress.value = null
}

function show(): void {
  const c = props.collections.find(({ id }) => id === into.value)
  emit('show', boxOf(c?.extent?.spatial.bbox[0]))
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
    <FileChooser v-if="!file" @choose="choose" />
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
          <FileColumns
            :found="found"
            :types="types"
            :properties="properties"
            :disabled="progress !== null"
            @role="inspection.setRole"
            @type="inspection.setType"
          />
          <div class="choices">
            <label id="import-name">Name</label>
            <Choice
              v-model="nameProperty"
              :options="propertyChoices"
              labelled-by="import-name"
              :disabled="into !== '' || progress !== null"
            />
            <label id="import-category">Category</label>
            <Choice
              v-model="categoryProperty"
              :options="propertyChoices"
              labelled-by="import-category"
              :disabled="into !== '' || progress !== null"
              @update:model-value="inspection.look"
            />
          </div>
        </div>
        <div class="right">
          <FilePreview :found="found" :name-property="nameProperty" :category-property="categoryProperty" />
          <MirroredSides v-if="sides.length === 2" :sides="sides" :chosen="within" @choose="(box) => (within = box)" />
          <FileNotes :notes="found.report.notes" :settable="progress === null" @set="inspection.set" />
          <p v-if="noValue.length > 0" class="set"
            >No value: {{ noValue.join(', ') }} <Button label="Take back" size="small" text @click="noValue = []"
          /></p>
          <FileFixes v-model="fixes" :report="found.report" :offered="offered" :disabled="progress !== null" />
        </div>
      </div>
      <p v-else-if="busy" role="status">Looking at the file …</p>
      <div v-if="found && !report" class="go">
        <label id="import-into">Into</label>
        <Choice v-model="into" :options="targets" labelled-by="import-into" :disabled="progress !== null" />
        <label v-if="!into"
          >Title <InputText v-model="title" size="small" maxlength="200" :disabled="progress !== null"
        /></label>
        <Button v-if="progress === null" label="Import" :disabled="busy || !usable" @click="run">
          <template #icon><Icon name="upload" /></template>
        </Button>
        <template v-else>
          <ProgressBar :value="Math.round(progress.share * 100)" class="bar" :aria-label="progress.name" />
          <span role="status">{{ progress.name }} …</span>
          <Button label="Cancel" severity="secondary" @click="importing.abort()" />
        </template>
      </div>
      <ImportOutcome v-if="report" :report="report" @show="show" @again="again" />
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
.choices,
.go {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.8rem;
  margin-top: 0.8rem;
}
.set {
  margin-top: 0.3rem;
  font-size: 0.88rem;
}
.bar {
  width: 180px;
}
@media (max-width: 760px) {
  .columns {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
