<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Message from 'primevue/message'
import { computed, ref, useId } from 'vue'
import type { Collection } from '../api/collections'
import { type Edit, saveEdits, verdictsOf } from '../api/edits'
import { explain } from '../api/explain'
import { counted } from '../text/format'
import { useSaving } from './useSaving'

// Changes many items of a collection as one: sets a property, takes one out, or deletes the items.
const props = defineProps<{
  collection: Collection
  items: readonly { id: string; etag?: string | undefined }[] // that are chosen
  names: readonly string[] // properties that items have
}>()
const emit = defineEmits<{ done: [] }>()

const most = 1000 // that the service changes as one
const saving = useSaving()
const id = useId()
const property = ref(props.collection.category_property || props.names[0] || '')
const value = ref('')
const sure = ref(false)
const busy = ref(false)
const problem = ref<string | null>(null)

const all = computed(() => counted(props.items.length, 'item', 'items'))
const isCategory = computed(() => property.value === props.collection.category_property)
const categories = computed(() => props.collection.categories.map((c) => c.category).filter((c) => c !== ''))

/** What was typed, as JSON if it is a number or a truth value. */
function typed(): unknown {
  const text = value.value.trim()
  if (text === '') return null
  if (text === 'true' || text === 'false') return text === 'true'
  return Number.isFinite(Number(text)) && !isCategory.value ? Number(text) : value.value
}

async function apply(edit: (about: { id: string; if_match: string }) => Edit, done: string): Promise<void> {
  busy.value = true
  problem.value = null
  try {
    const edits = props.items.map((i) => edit({ id: i.id, if_match: i.etag ?? '*' }))
    const made = await saveEdits(props.collection.id, edits)
    saving.tellDone(`${all.value} ${done}.`, made.change, true)
    emit('done')
  } catch (e) {
    const against = verdictsOf(e).filter((v) => v.status !== 424).length
    problem.value = `Nothing is changed. ${explain(e)}${against > 1 ? ` There are ${against - 1} more like it.` : ''}`
  }
  busy.value = sure.value = false
}
const set = () =>
  apply(
    (about) => ({ op: 'patch', ...about, patch: { properties: { [property.value]: typed() } } as Edit['patch'] }),
    'changed',
  )
function remove(): void {
  if (sure.value) void apply((about) => ({ op: 'delete', ...about }), 'deleted')
  sure.value = true
}
</script>

<template>
  <div class="bulk" role="group" :aria-label="`${all} chosen`">
    <b role="status">{{ all }} chosen</b>
    <p v-if="items.length > most" class="soft">At most {{ most }} can be changed as one; choose fewer.</p>
    <form v-else-if="items.length > 0" @submit.prevent="set">
      <label :for="`${id}-property`">Set</label>
      <InputText :id="`${id}-property`" v-model="property" size="small" :list="`${id}-names`" aria-label="Property" />
      <datalist :id="`${id}-names`"><option v-for="n in names" :key="n" :value="n" /></datalist>
      <label :for="`${id}-value`">to</label>
      <InputText
        :id="`${id}-value`"
        v-model="value"
        size="small"
        :list="isCategory ? `${id}-categories` : undefined"
        aria-label="Value"
      />
      <datalist :id="`${id}-categories`"><option v-for="c in categories" :key="c" :value="c" /></datalist>
      <Button
        type="submit"
        :label="value.trim() === '' ? 'Take it out' : 'Set'"
        size="small"
        :severity="value.trim() === '' ? 'secondary' : 'primary'"
        :disabled="busy || property.trim() === ''"
      />
      <Button
        :label="sure ? `Really delete ${all}` : 'Delete them'"
        size="small"
        :severity="sure ? 'danger' : 'secondary'"
        :disabled="busy"
        @click="remove"
      />
      <slot />
    </form>
    <Message v-if="problem" severity="error" size="small">{{ problem }}</Message>
  </div>
</template>

<style scoped>
.bulk > * + * {
  margin-top: 0.4rem;
}
form {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.4rem 0.6rem;
}
form :deep(input) {
  width: 9rem;
}
</style>
