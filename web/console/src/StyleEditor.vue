<script setup lang="ts">
import { icons, type IdleMap, Looks, type MarkerSource, type Style } from '@idlebeacon/map'
import Button from 'primevue/button'
import Message from 'primevue/message'
import { computed, onMounted, ref, shallowRef, useTemplateRef, watch } from 'vue'
import {
  type Collection, everything, fetchBackdrop, fetchMarkers, fetchShapes, fetchStyle, ProblemError, resetStyle, saveStyle, type StyleText,
} from './api/client'
import CategoryMark from './CategoryMark.vue'

// How a collection is drawn: icons, colours and labels of its categories by hand, and all of the style as its document.
// The small map shows at once what is being made; it is kept when saved.
const props = defineProps<{ collection: Collection }>()
const emit = defineEmits<{ saved: [] }>()

const map = useTemplateRef<IdleMap>('map')
const draft = shallowRef<StyleText | null>(null)
const past = shallowRef<StyleText[]>([]) // for undo, the newest last
const saved = ref('') // as the service has it, in JSON
const text = ref('') // the document as it stands in the editor
const problem = ref<string | null>(null)
const iconNames = Object.keys(icons)

const looks = computed(() => draft.value && new Looks(draft.value as Style))
const changed = computed(() => draft.value !== null && JSON.stringify(draft.value) !== saved.value)

async function load(): Promise<void> {
  try {
    const { proposed: _, ...style } = await fetchStyle(props.collection.id)
    for (const k of props.collection.categories) {
      if (k.category && !style.categories?.some((c) => c.value === k.category)) style.categories = [...(style.categories ?? []), { value: k.category }]
    }
    past.value = []
    saved.value = JSON.stringify(style)
    draft.value = style
    problem.value = null
  } catch (e) {
    problem.value = e instanceof ProblemError ? e.message : 'The service does not answer.'
  }
}
onMounted(load)

watch(draft, (now) => (text.value = now ? JSON.stringify(now, null, 2) : ''))
watch([draft, map], () => {
  if (!map.value || !looks.value) return
  const c = props.collection
  const categories = c.categories.map((k) => k.category)
  const source: MarkerSource = {
    id: 'draft',
    looks: looks.value,
    load: (box, zoom, signal) => fetchMarkers(c.id, box, zoom, everything, categories, signal),
    ...(c.shapes > 0 && { shapes: (box, zoom, signal) => fetchShapes(c.id, box, zoom, everything, categories, signal) }),
  }
  map.value.sources = [source]
})
watch(map, async () => {
  const [west, south, east, north] = props.collection.extent?.spatial.bbox[0] ?? []
  if (west !== undefined && south !== undefined && east !== undefined && north !== undefined) map.value?.fit({ west, south, east, north }, false)
  const land = await fetchBackdrop().catch(() => null) // the map is right without
  if (map.value && land) map.value.backdrop = land
})

function change(next: StyleText): void {
  if (draft.value) past.value = [...past.value, draft.value]
  draft.value = next
}
function undo(): void {
  const last = past.value.at(-1)
  if (!last) return
  past.value = past.value.slice(0, -1)
  draft.value = last
}
type Member = 'icon' | 'colour' | 'label'
function setCategory(i: number, member: Member, value: string): void {
  const categories = (draft.value?.categories ?? []).map((c, j) => (j === i ? { ...c, [member]: value } : c))
  change({ ...draft.value, categories })
}
function setLine(member: 'width' | 'dash', value: string): void {
  change({ ...draft.value, line: { ...draft.value?.line, [member]: member === 'width' ? Number(value) : (value as 'solid') } })
}
function applyText(): void {
  try {
    change(JSON.parse(text.value) as StyleText)
    problem.value = null
  } catch (e) {
    problem.value = `The document is not valid JSON: ${(e as Error).message}`
  }
}
async function store(work: () => Promise<unknown>): Promise<void> {
  try {
    await work()
    await load()
    emit('saved')
  } catch (e) {
    problem.value = e instanceof ProblemError ? e.message : 'The service does not answer.'
  }
}
const save = () => store(() => saveStyle(props.collection.id, draft.value ?? {}))
const reset = () => store(() => resetStyle(props.collection.id))
const colourOf = (c: { value: string; colour?: string }) => c.colour ?? looks.value?.of(c.value).colour ?? '#5f6b76'
</script>

<template>
  <div class="editor">
    <Message v-if="problem" severity="error" class="problem">{{ problem }}</Message>
    <div v-if="draft && looks" class="sides">
      <div>
        <table v-if="draft.categories?.length">
          <caption>Categories</caption>
          <tbody>
            <tr v-for="(c, i) in draft.categories" :key="c.value">
              <td><CategoryMark :look="looks.of(c.value)" /></td>
              <th scope="row">{{ c.value || 'without category' }}</th>
              <td>
                <select :value="c.icon ?? ''" :aria-label="`Icon of ${c.value}`" @change="setCategory(i, 'icon', ($event.target as HTMLSelectElement).value)">
                  <option value="">default</option>
                  <option v-for="n in iconNames" :key="n">{{ n }}</option>
                </select>
              </td>
              <td><input type="color" :value="colourOf(c)" :aria-label="`Colour of ${c.value}`" @change="setCategory(i, 'colour', ($event.target as HTMLInputElement).value)" /></td>
              <td><input type="text" :value="c.label ?? ''" placeholder="label" maxlength="200" :aria-label="`Label of ${c.value}`" @change="setCategory(i, 'label', ($event.target as HTMLInputElement).value)" /></td>
            </tr>
          </tbody>
        </table>
        <p v-if="collection.shapes > 0" class="line">
          <label>
            Line width
            <input type="number" min="0" max="20" step="0.5" :value="draft.line?.width ?? 2.5" @change="setLine('width', ($event.target as HTMLInputElement).value)" />
          </label>
          <label>
            Dash
            <select :value="draft.line?.dash ?? 'solid'" @change="setLine('dash', ($event.target as HTMLSelectElement).value)">
              <option>solid</option>
              <option>dashed</option>
              <option>dotted</option>
            </select>
          </label>
        </p>
        <details>
          <summary>The whole style as a document</summary>
          <textarea v-model="text" rows="14" spellcheck="false" aria-label="Style document" />
          <Button label="Use this" size="small" severity="secondary" @click="applyText" />
        </details>
      </div>
      <idle-map ref="map" class="preview" />
    </div>
    <div class="actions">
      <Button label="Save" icon="pi pi-check" size="small" :disabled="!changed" @click="save" />
      <Button label="Undo" icon="pi pi-undo" size="small" severity="secondary" :disabled="past.length === 0" @click="undo" />
      <Button label="Propose anew from the categories" size="small" severity="secondary" text @click="reset" />
      <span v-if="changed" role="status">Not saved yet</span>
    </div>
  </div>
</template>

<style scoped>
.editor {
  flex-basis: 100%;
  min-width: 0;
}
.problem {
  margin-bottom: 0.5rem;
}
.sides {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  gap: 1rem;
}
.preview {
  height: 340px;
  border: 1px solid var(--rule);
  border-radius: 6px;
}
table {
  border-collapse: collapse;
  font-size: 0.9rem;
}
caption {
  text-align: start;
  font-weight: 600;
}
th,
td {
  padding: 0.2rem 0.4rem;
  text-align: start;
  font-weight: normal;
  overflow-wrap: anywhere;
}
select,
input[type='text'],
input[type='number'],
textarea {
  padding: 0.2rem 0.3rem;
  border: 1px solid var(--rule);
  border-radius: 5px;
  background: var(--card);
  color: inherit;
  font: inherit;
}
input[type='text'] {
  width: 8rem;
}
input[type='number'] {
  width: 4.5rem;
}
textarea {
  width: 100%;
  box-sizing: border-box;
  font-family: ui-monospace, 'DejaVu Sans Mono', monospace;
  font-size: 0.8rem;
}
.line,
.actions {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.6rem;
  margin-top: 0.6rem;
}
@media (max-width: 760px) {
  .sides {
    grid-template-columns: 1fr;
  }
}
</style>
