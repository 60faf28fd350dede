<script setup lang="ts">
import type { IdleMap, MarkerSource } from '@idlebeacon/map'
import { snapToNear } from '@idlebeacon/map/sketch'
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Message from 'primevue/message'
import { computed, onMounted, onUnmounted, ref, shallowRef, useId, useTemplateRef, watch } from 'vue'
import type { Collection } from '../api/collections'
import { type Conflict, type Edit, fetchItem, newName, propertyAt, type StoredItem } from '../api/edits'
import { explain } from '../api/explain'
import { isPicture } from '../api/pictures'
import Icon from '../parts/Icon.vue'
import { useNotices } from '../stores/notices'
import { useSession } from '../stores/session'
import ConflictChoice from './ConflictChoice.vue'
import { type Field, fieldOf, valueOf, wrongWith } from './fields'
import { forget, kept, keep } from './kept'
import PictureField from './PictureField.vue'
import PropertyField from './PropertyField.vue'
import ShapeFields from './ShapeFields.vue'
import { useTray } from './tray'
import { useDraft } from './useDraft'
import { type Draft, positionOf, useForm } from './useForm'
import { type Outcome, useSaving } from './useSaving'
import { useSteps } from './useSteps'
import WhereFields from './WhereFields.vue'

// The form in which an item is added or changed, or in which that is suggested. On the map one sees where it is.
const props = defineProps<{
  map: IdleMap
  collections: readonly Collection[] // that may be added to, or for which edits may be suggested
  target: { collection: string; item: string | null } // null for a new item
}>()
const emit = defineEmits<{ close: []; source: [sources: MarkerSource[]]; gather: [] }>()

const notices = useNotices()
const session = useSession()
const tray = useTray()
const saving = useSaving()
const form = useForm()
const { item, fields, at, shape, rules } = form
const id = useId()
const collection = ref(props.target.collection)
const problem = ref<string | null>(null)
const refused = shallowRef<ReadonlyMap<string, string>>(new Map()) // properties, by the service
const warnings = ref<string[]>([])
const conflict = shallowRef<Conflict | null>(null)
const busy = ref(false)
const tried = ref(false) // to save
const sure = ref(false) // to delete it
const leaving = ref(false) // whether to leave with unsaved work is being asked
const dirty = ref(false)
const adding = ref('') // the name of a further property
const note = ref('') // to whoever decides on a suggestion
const snapping = ref(false)
const more = ref(false) // another one is added after this
const panel = useTemplateRef<HTMLElement>('panel')

const chosen = computed(() => props.collections.find((c) => c.id === collection.value))
const suggesting = computed(() => !session.edits)
const isNew = computed(() => props.target.item === null)
const what = computed(() =>
  shape.value ? { path: 'path', area: 'area', circle: 'circle' }[shape.value.kind] : 'place',
)
const heading = computed(() => {
  if (!isNew.value)
    return `${suggesting.value ? 'Suggest a change of' : 'Edit'} ${nameOf(item.value) || props.target.item}`
  return suggesting.value ? `Suggest a ${what.value}` : `Add ${what.value === 'area' ? 'an' : 'a'} ${what.value}`
})
const nameOf = (i: StoredItem | null) => {
  const name = i?.properties[chosen.value?.name_property ?? '']
  return typeof name === 'string' ? name : ''
}
const typedName = () => fields.value.find((f) => f.name === chosen.value?.name_property)?.text.trim()

useDraft(props.map, at, (sources) => emit('source', sources))
const steps = useSteps<Draft>(form.draft, (d) => {
  form.put(d)
  changed()
})

function changed(): void {
  dirty.value = true
  keep({ collection: collection.value, item: props.target.item, from: item.value, draft: form.draft() })
}
let pausing = 0
/** Something was typed or drawn; what follows within a moment belongs to it. */
function touched(): void {
  changed()
  clearTimeout(pausing)
  pausing = window.setTimeout(steps.step, 600)
}
function type(f: Field, text: string): void {
  f.text = text
  refused.value = new Map([...refused.value].filter(([name]) => name !== f.name))
  touched()
}
const pictureNames = ['image', 'picture', 'photo', 'images', 'pictures', 'photos']
/** Whether a property has pictures: it is called so, and what it has so far are some. */
const showsPictures = (f: Field) =>
  pictureNames.includes(f.name.toLowerCase()) &&
  (f.text === '' || (!wrongWith(f) && [valueOf(f)].flat().every(isPicture)))
function picture(f: Field, value: unknown): void {
  Object.assign(f, value === undefined ? { text: '' } : fieldOf(f.name, value))
  touched()
}
watch([snapping, collection], () => {
  const { map, target } = props
  map.snap = snapping.value ? snapToNear({ layer: collection.value, id: target.item }) : null
})
onUnmounted(() => (props.map.snap = null))
let placing = false // by what was read, and not by a hand
watch(at, () => {
  if (!placing) touched()
})
function quietly(work: () => void): void {
  placing = true
  work()
  queueMicrotask(() => (placing = false))
}

async function begin(): Promise<void> {
  if (!chosen.value) return
  await form.begin(chosen.value)
  if (!at.value && !shape.value) quietly(() => (at.value = props.map.view.centre))
}

onMounted(async () => {
  const before = kept()
  const same = before?.item === props.target.item && (isNew.value || before?.collection === props.target.collection)
  try {
    if (before && same) collection.value = before.collection
    if (isNew.value) await begin()
    else {
      if (chosen.value) await form.learn(chosen.value)
      const found = await fetchItem(collection.value, props.target.item ?? '')
      quietly(() => form.show(found))
    }
    steps.begin()
    if (before && same) {
      item.value = before.from // what others have changed since is found out when it is saved
      quietly(() => form.put(before.draft))
      dirty.value = true
    }
  } catch (e) {
    problem.value = `This cannot be edited. ${explain(e)}`
  }
  panel.value?.querySelector<HTMLElement>('input')?.focus()
})

const categories = computed(() => chosen.value?.categories.map((c) => c.category).filter((c) => c !== '') ?? [])
function addField(): void {
  const name = adding.value.trim()
  if (name === '' || fields.value.some((f) => f.name === name)) return
  fields.value.push({ name, kind: rules.value.get(name)?.kind ?? 'text', text: '' })
  adding.value = ''
  touched()
}
function removeField(f: Field): void {
  fields.value = fields.value.filter((other) => other !== f)
  touched()
}

/** The edit that is asked for, unless something is missing, which is told. */
function asked(): Edit | null {
  tried.value = true
  problem.value = null
  if (form.wrong.value) problem.value = 'Some of this is not as it has to be; see below.'
  else if (!form.placed.value) problem.value = 'Draw on the map where it is.'
  if (problem.value) return null
  const edit = form.edit()
  if (!edit) close()
  return edit
}
const called = () => `${isNew.value ? 'Add' : 'Change'} ${typedName() || (props.target.item ?? `a ${what.value}`)}`

async function save(): Promise<void> {
  const edit = busy.value ? null : asked()
  if (!edit) return
  busy.value = true
  const outcome = suggesting.value
    ? await saving.propose(collection.value, edit, note.value.trim())
    : await saving.save(collection.value, edit, called())
  busy.value = false
  take(outcome)
}

function take(outcome: Outcome): void {
  if ('conflict' in outcome) {
    conflict.value = outcome.conflict
    return
  }
  if ('problem' in outcome) {
    refused.value = outcome.misfits
    problem.value = `This is not ${suggesting.value ? 'sent' : 'saved'}. ${outcome.problem}`
    return
  }
  forget()
  dirty.value = false
  if ('waits' in outcome) {
    notices.failed('The service does not answer. Your edit waits here, and is sent when it is back.')
    emit('gather')
    close()
  } else if ('suggested' in outcome) {
    notices.done('Thank you. An editor decides on it.', {
      label: 'Follow it',
      act: () => window.open(outcome.suggested, '_self'),
    })
    close()
  } else {
    saving.tellDone(isNew.value ? `The ${what.value} is added.` : 'Saved.', outcome.change)
    const told = outcome.saved?.warnings?.map((w) => w.reason) ?? []
    warnings.value = told
    if (told.length > 0 && outcome.saved) {
      const { saved } = outcome
      quietly(() => form.show(saved))
      steps.begin()
    } else if (more.value) void another()
    else close()
  }
}

/** Keeps the edit, to be saved together with others. */
function gather(): void {
  const edit = asked()
  if (!edit) return
  tray.add({ request: newName(), name: called(), collection: collection.value, edit, sends: false })
  forget()
  dirty.value = false
  emit('gather')
  if (more.value) void another()
  else close()
}

/** Begins another item like the one before. */
async function another(): Promise<void> {
  tried.value = false
  const kind = shape.value?.kind
  fields.value = []
  await begin()
  if (kind) form.become(kind, props.map.view.centre)
  steps.begin()
}

/** Goes on from the item as others have made it, with what is kept of one's own. */
function settle(members: readonly string[]): void {
  const c = conflict.value
  const mine = item.value
  if (!c || !mine) return
  const ours = form.own(mine)
  const [position, drawn] = [at.value, shape.value]
  quietly(() => form.show(c.current))
  if (ours.geometry && members.includes('/geometry')) {
    at.value = position
    shape.value = drawn
  }
  for (const [name, value] of Object.entries(ours.properties ?? {})) {
    const theirs = c.differing.some((d) => d.member !== '/geometry' && propertyAt(d.member) === name)
    if (theirs && !members.includes(`/properties/${name}`)) continue
    const field = fields.value.find((f) => f.name === name)
    if (value === null) fields.value = fields.value.filter((f) => f.name !== name)
    else if (field) Object.assign(field, fieldOf(name, value))
    else fields.value.push(fieldOf(name, value))
  }
  conflict.value = null
  void save()
}

async function remove(): Promise<void> {
  if (!item.value) return
  if (!sure.value) {
    sure.value = true
    return
  }
  busy.value = true
  const edit: Edit = { op: 'delete', id: String(item.value.id), if_match: item.value.etag ?? '*' }
  const outcome = suggesting.value
    ? await saving.propose(collection.value, edit, note.value.trim())
    : await saving.save(collection.value, edit, `Delete ${nameOf(item.value) || props.target.item}`)
  busy.value = sure.value = false
  if ('conflict' in outcome) {
    problem.value = 'Somebody has just changed it, so it is not deleted.'
    const { current } = outcome.conflict
    quietly(() => form.show(current))
  } else if ('saved' in outcome) {
    forget()
    saving.tellDone(`The ${what.value} is deleted.`, outcome.change)
    close()
  } else take(outcome)
}

function close(): void {
  clearTimeout(pausing)
  emit('close')
}
/** Leaves, once it is sure that what is not saved may go. */
function cancel(): void {
  if (dirty.value && !leaving.value) {
    leaving.value = true
    return
  }
  forget()
  close()
}
function key(e: KeyboardEvent): void {
  const undoing = (e.ctrlKey || e.metaKey) && e.key.toLowerCase() === 'z'
  if (undoing) {
    e.preventDefault()
    if (e.shiftKey) steps.redo()
    else steps.undo()
  } else if (e.key === 'Escape') {
    e.stopPropagation()
    if (steps.canUndo.value) steps.undo()
    else cancel()
  }
}
function beforeLeaving(e: BeforeUnloadEvent): void {
  if (dirty.value) e.preventDefault()
}
onMounted(() => window.addEventListener('beforeunload', beforeLeaving))
onUnmounted(() => {
  clearTimeout(pausing)
  window.removeEventListener('beforeunload', beforeLeaving)
})
const sample = computed(() => item.value && positionOf(item.value)) // where it was
</script>

<template>
  <section ref="panel" class="edit" :aria-labelledby="id" @keydown="key">
    <h2 :id="id" dir="auto">{{ heading }}</h2>
    <Message v-if="problem" severity="error" class="told">{{ problem }}</Message>
    <Message v-for="w in warnings" :key="w" severity="warn" class="told">Saved, but: {{ w }}</Message>
    <ConflictChoice
      v-if="conflict && item"
      :conflict="conflict"
      :mine="form.own(item)"
      @settle="settle"
      @cancel="conflict = null"
    />
    <form v-else @submit.prevent="save">
      <label v-if="isNew && collections.length > 1"
        >Collection
        <select v-model="collection" @change="begin">
          <option v-for="c in collections" :key="c.id" :value="c.id">{{ c.title }}</option>
        </select>
      </label>
      <div v-if="isNew" class="kinds" role="radiogroup" aria-label="What it is">
        <button
          v-for="k in ['place', 'path', 'area', 'circle'] as const"
          :key="k"
          type="button"
          role="radio"
          :aria-checked="what === k"
          @click="(form.become(k, map.view.centre), touched())"
          >{{ { place: 'Place', path: 'Path', area: 'Area', circle: 'Circle' }[k] }}</button
        >
      </div>
      <WhereFields v-if="at" :map="map" :at="at" :bbox="chosen?.extent?.spatial.bbox[0]" @place="(to) => (at = to)" />
      <ShapeFields
        v-else-if="shape"
        :map="map"
        :shape="shape"
        @draw="((shape = $event), changed())"
        @stay="steps.step"
      />
      <label v-if="at || shape" class="more"
        ><input v-model="snapping" type="checkbox" /> Snap to places and corners nearby</label
      >
      <p v-else-if="item && !sample" class="soft">A {{ item.geometry.type }} stays where it is.</p>
      <template v-for="f in fields" :key="f.name">
        <PictureField
          v-if="showsPictures(f)"
          :label="rules.get(f.name)?.title ?? f.name"
          :value="valueOf(f)"
          :collection="collection"
          :drop="f.text !== ''"
          @change="(value) => picture(f, value)"
          @drop="removeField(f)"
          @place="(to) => at && (at = to)"
        />
        <PropertyField
          v-else
          :field="f"
          :rule="rules.get(f.name)"
          :offers="f.name === chosen?.category_property ? categories : undefined"
          :refused="refused.get(f.name)"
          :tried="tried"
          @type="(text) => type(f, text)"
          @drop="removeField(f)"
        />
      </template>
      <div v-if="form.extra.value" class="another">
        <label :for="`${id}-adding`">Another property</label>
        <InputText :id="`${id}-adding`" v-model="adding" size="small" @keydown.enter.prevent="addField" />
        <button type="button" class="plain" aria-label="Add this property" @click="addField"
          ><Icon name="plus"
        /></button>
      </div>
      <label v-if="suggesting"
        >A word to the editors
        <textarea v-model="note" rows="2" maxlength="1000" dir="auto" />
      </label>
      <label v-else-if="isNew" class="more"><input v-model="more" type="checkbox" /> Add another one after this</label>
      <div class="ways">
        <p v-if="leaving" class="asks" role="alert"
          >This is not saved.
          <button type="button" class="link" @click="cancel">Drop it</button>
          <button type="button" class="link" @click="leaving = false">Go on</button></p
        >
        <Button type="submit" :label="suggesting ? 'Suggest' : 'Save'" size="small" :disabled="busy" />
        <Button
          v-if="!suggesting"
          label="Save later"
          title="Keep it, to be saved together with other edits"
          severity="secondary"
          size="small"
          :disabled="busy"
          @click="gather"
        />
        <Button label="Cancel" severity="secondary" size="small" @click="cancel" />
        <button type="button" class="plain" aria-label="Undo" :disabled="!steps.canUndo.value" @click="steps.undo"
          ><Icon name="undo"
        /></button>
        <button type="button" class="plain" aria-label="Redo" :disabled="!steps.canRedo.value" @click="steps.redo"
          ><Icon name="undo" class="mirrored"
        /></button>
        <Button
          v-if="item"
          :label="sure ? 'Really delete' : 'Delete'"
          :severity="sure ? 'danger' : 'secondary'"
          size="small"
          :disabled="busy"
          class="away"
          @click="remove"
        />
      </div>
    </form>
  </section>
</template>

<style scoped src="./EditPanel.css"></style>
