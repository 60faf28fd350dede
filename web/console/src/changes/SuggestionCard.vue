<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Message from 'primevue/message'
import { computed, ref, shallowRef, useId } from 'vue'
import { RouterLink } from 'vue-router'
import type { Change, Edit } from '../api/edits'
import { explain } from '../api/explain'
import { acceptSuggestion, declineSuggestion, isOvertaken, type Suggestion } from '../api/suggestions'
import { type Field, fieldOf, patchOf, valueOf, wrongWith } from '../edit/fields'
import PropertyField from '../edit/PropertyField.vue'
import { useCollections } from '../stores/collections'
import { useNotices } from '../stores/notices'
import { momentText } from '../text/format'
import ChangeDetails from './ChangeDetails.vue'
import { boxOf, memberOf } from './words'

// One edit that somebody suggests, beside the item as it is, to be decided on.
const props = withDefaults(
  defineProps<{
    suggestion: Suggestion
    decides: boolean
    chosen?: boolean | undefined // undefined if it is not one of several
  }>(),
  { chosen: undefined },
)
const emit = defineEmits<{ decided: []; choose: [on: boolean] }>()

const store = useCollections()
const notices = useNotices()
const id = useId()
const word = ref('')
const busy = ref(false)
const problem = ref<string | null>(null)

const s = computed(() => props.suggestion)
const collection = computed(() => store.find(s.value.collection))
const name = computed(() => {
  const of = s.value.now ?? s.value.would
  const said = of?.properties[collection.value?.name_property ?? '']
  return typeof said === 'string' && said ? said : s.value.item || 'a new item'
})
const what = computed(() => {
  if (s.value.op === 'create') return `Add ${name.value}`
  if (s.value.op === 'delete') return `Take out ${name.value}`
  const members = (s.value.differing ?? []).map((d) => memberOf(d.member))
  return `${name.value}: ${members.join(', ') || 'nothing differs any more'}`
})
/** The suggestion as if it were a change, which is shown in the same way. */
const change = computed(() => {
  const { now, would, differing, op } = s.value
  return {
    was: now,
    is: op === 'delete' ? undefined : would,
    differing: now && would ? differing : undefined,
  } as Change
})
const box = computed(() => boxOf(change.value))

async function decide(work: () => Promise<unknown>, done: string): Promise<void> {
  busy.value = true
  problem.value = null
  try {
    await work()
    notices.done(done)
    emit('decided')
  } catch (e) {
    problem.value = explain(e)
    if (isOvertaken(e)) emit('decided') // it is looked at anew
  }
  busy.value = false
}
const accept = () => decide(() => acceptSuggestion(s.value, word.value.trim(), instead()), 'Accepted.')

const fields = shallowRef<Field[] | null>(null) // of what would come of it, if that is changed before it is accepted
function alter(): void {
  const would = Object.entries(s.value.would?.properties ?? {})
  fields.value = fields.value ? null : would.map(([name, value]) => fieldOf(name, value))
}
const type = (f: Field, text: string) =>
  (fields.value = fields.value?.map((o) => (o === f ? { ...f, text } : o)) ?? null)

/** What is made instead of what was suggested, if it was changed. */
function instead(): Edit | undefined {
  const { would, now } = s.value
  if (!fields.value || !would) return undefined
  const typed = fields.value.map((f): [string, unknown] => [f.name, valueOf(f)])
  const properties = Object.fromEntries(typed.filter(([, value]) => value !== undefined))
  if (!now) return { op: 'create', feature: { ...would, properties } as unknown as Edit['feature'] }
  const patch = { geometry: would.geometry, properties: patchOf(now.properties, properties) }
  return { op: 'patch', id: s.value.item, patch: patch as Edit['patch'] }
}
const decline = () => decide(() => declineSuggestion(s.value, word.value.trim()), 'Declined.')
</script>

<template>
  <article :data-suggestion="s.id">
    <header>
      <input
        v-if="decides && chosen !== undefined"
        type="checkbox"
        :checked="chosen"
        :aria-label="`Choose: ${what}`"
        @change="emit('choose', ($event.target as HTMLInputElement).checked)"
      />
      <span class="what">
        <b dir="auto">{{ what }}</b>
        <span class="soft" dir="auto"
          >{{ collection?.title ?? s.collection }} · {{ s.by || s.actor || 'a guest' }} ·
          <time :datetime="s.made_at">{{ momentText(s.made_at) }}</time></span
        >
      </span>
    </header>
    <p v-if="s.note" class="note" dir="auto">“{{ s.note }}”</p>
    <ChangeDetails v-if="s.state === 'open'" :change="change" />
    <p v-for="d in s.meanwhile" :key="d.member" class="soft" dir="auto"
      >Others have changed {{ memberOf(d.member) }} since.</p
    >
    <Message v-if="s.against" severity="warn" size="small">As it is, it cannot be accepted: {{ s.against }}.</Message>
    <Message v-if="problem" severity="error" size="small">{{ problem }}</Message>
    <div v-if="fields" class="fields">
      <PropertyField
        v-for="f in fields"
        :key="f.name"
        :field="f"
        :tried="true"
        @type="(text) => type(f, text)"
        @drop="fields = fields?.filter((o) => o !== f) ?? null"
      />
    </div>
    <div v-if="decides && s.state === 'open'" class="ways">
      <Button
        v-if="s.would"
        :label="fields ? 'As suggested' : 'Change it first'"
        size="small"
        severity="secondary"
        @click="alter"
      />
      <Button
        label="Accept"
        size="small"
        :disabled="busy || (s.against !== undefined && !fields) || fields?.some(wrongWith)"
        @click="accept"
      />
      <Button label="Decline" size="small" severity="secondary" :disabled="busy" @click="decline" />
      <label :for="`${id}-word`" class="unseen">A word to who suggested it</label>
      <InputText
        :id="`${id}-word`"
        v-model="word"
        size="small"
        placeholder="A word to who suggested it"
        maxlength="1000"
      />
      <RouterLink v-if="box" :to="{ name: 'map', query: { show: box } }">Show on the map</RouterLink>
    </div>
    <slot />
  </article>
</template>

<style scoped>
article {
  padding: 0.6rem 0.8rem;
}
article > * + * {
  margin-top: 0.4rem;
}
header {
  display: flex;
  align-items: baseline;
  gap: 0.7rem;
}
.what {
  display: flex;
  flex-wrap: wrap;
  align-items: baseline;
  gap: 0.2rem 0.7rem;
}
b {
  overflow-wrap: anywhere;
}
.note {
  font-style: italic;
  overflow-wrap: anywhere;
}
.fields {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(15rem, 1fr));
  gap: 0.5rem 1rem;
}
.ways {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.4rem 0.7rem;
}
.ways :deep(input) {
  flex: 0 1 18rem;
}
</style>
