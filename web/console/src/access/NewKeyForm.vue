<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Message from 'primevue/message'
import { computed, onUnmounted, ref, shallowRef, watch } from 'vue'
import { explain, isBrokenOff } from '../api/explain'
import { draftKey, type Key, makeKey, type NewKey, type Role } from '../api/keys'
import Choice from '../parts/Choice.vue'
import Icon from '../parts/Icon.vue'
import { useCollections } from '../stores/collections'
import { momentText } from '../text/format'

// Makes a key. What it will be able to do is told in a sentence before it is made, and its secret is shown once.
const emit = defineEmits<{ made: []; close: [] }>()

const roles: Record<Role, string> = {
  reader: 'Reader: sees places',
  contributor: 'Contributor: suggests edits',
  editor: 'Editor: changes places',
  owner: 'Owner: manages everything',
  device: 'Device: reports positions',
}
const ends = { never: 'never', '30': 'in 30 days', '90': 'in 90 days', '365': 'in a year', day: 'on a day …' }

const store = useCollections()
const name = ref('')
const role = ref<string>('reader')
const only = ref<'all' | 'some'>('all')
const collections = ref<string[]>([])
const devices = ref('')
const origins = ref('')
const own = ref(false)
const perMinute = ref('')
const end = ref<string>('never')
const day = ref('')
const draft = shallowRef<Key | null>(null)
const made = shallowRef<Key | null>(null)
const problem = ref<string | null>(null)
const busy = ref(false)
const copied = ref(false)

const words = (text: string) => text.split(/[\s,]+/).filter(Boolean)

const asked = computed<NewKey>(() => {
  const days = Number(end.value)
  const until = end.value === 'day' && day.value ? new Date(`${day.value}T23:59:59`) : null
  const at = days > 0 ? new Date(Date.now() + days * 86_400_000) : until
  return {
    name: name.value.trim() || 'a key',
    role: role.value as Role,
    limits: {
      collections: only.value === 'some' && role.value !== 'device' ? collections.value : null,
      devices: role.value === 'device' && words(devices.value).length > 0 ? words(devices.value) : null,
      origins: words(origins.value),
      own: own.value && role.value === 'editor',
      per_minute: Number(perMinute.value) || 0,
    },
    ...(at && { expires_at: at.toISOString() }),
  }
})

let request = new AbortController()
let timer = 0
async function look(): Promise<void> {
  request.abort()
  const mine = (request = new AbortController())
  try {
    draft.value = await draftKey(asked.value, mine.signal)
    problem.value = null
  } catch (e) {
    if (isBrokenOff(e)) return
    draft.value = null
    problem.value = explain(e)
  }
}
watch(
  asked,
  () => {
    clearTimeout(timer)
    timer = window.setTimeout(look, 200)
  },
  { immediate: true },
)
onUnmounted(() => {
  clearTimeout(timer)
  request.abort()
})

async function make(): Promise<void> {
  busy.value = true
  try {
    made.value = await makeKey({ ...asked.value, name: name.value.trim() })
    emit('made')
  } catch (e) {
    problem.value = explain(e)
  }
  busy.value = false
}

async function copy(): Promise<void> {
  await navigator.clipboard.writeText(made.value?.secret ?? '')
  copied.value = true
}
const mayMake = computed(() => name.value.trim() !== '' && draft.value !== null && !busy.value)
</script>

<template>
  <div class="new">
    <div v-if="made" class="made" role="status">
      <h3>{{ made.name }} is made</h3>
      <p>{{ made.can }}</p>
      <p
        ><b>Keep its secret now.</b> It is shown this once; the service itself keeps only what it needs to recognise
        it.</p
      >
      <div class="secret">
        <code>{{ made.secret }}</code>
        <Button :label="copied ? 'Copied' : 'Copy'" size="small" @click="copy">
          <template #icon><Icon :name="copied ? 'check' : 'copy'" /></template>
        </Button>
      </div>
      <Button label="Done" severity="secondary" size="small" @click="emit('close')" />
    </div>
    <form v-else @submit.prevent="make">
      <div class="fields">
        <div>
          <label for="key-name">What it is for</label>
          <InputText id="key-name" v-model="name" size="small" maxlength="100" placeholder="Harbour kiosk" fluid />
        </div>
        <div>
          <span id="key-role">Role</span>
          <Choice v-model="role" :options="roles" labelled-by="key-role" />
        </div>
        <div>
          <span id="key-end">It ends</span>
          <Choice v-model="end" :options="ends" labelled-by="key-end" />
          <input v-if="end === 'day'" v-model="day" type="date" aria-label="The day on which it ends" class="day" />
        </div>
        <div>
          <label for="key-rate">Requests a minute</label>
          <InputText id="key-rate" v-model="perMinute" size="small" inputmode="numeric" placeholder="no limit" fluid />
        </div>
      </div>
      <fieldset v-if="role !== 'device'">
        <legend>Collections</legend>
        <label><input v-model="only" type="radio" value="all" /> all, also those to come</label>
        <label><input v-model="only" type="radio" value="some" /> only these:</label>
        <div v-if="only === 'some'" class="some">
          <label v-for="c in store.collections ?? []" :key="c.id">
            <input v-model="collections" type="checkbox" :value="c.id" /> {{ c.title }}
          </label>
        </div>
      </fieldset>
      <div v-else class="wide">
        <label for="key-devices">Ids of its devices</label>
        <InputText id="key-devices" v-model="devices" size="small" placeholder="WB-07, WB-08; empty for any" fluid />
      </div>
      <label v-if="role === 'editor'" class="check"
        ><input v-model="own" type="checkbox" /> It may take out only what it added itself</label
      >
      <div class="wide">
        <label for="key-origins">Web pages that use it, by their origin</label>
        <InputText
          id="key-origins"
          v-model="origins"
          size="small"
          placeholder="https://app.example; empty for programs that are no web pages"
          fluid
        />
      </div>
      <Message v-if="problem" severity="error">{{ problem }}</Message>
      <p v-else-if="draft" class="can" data-part="can"
        ><b>What this key will be able to do:</b> {{ draft.can }}
        <template v-if="draft.expires_at"> ({{ momentText(draft.expires_at) }} where you are.)</template></p
      >
      <div class="ways">
        <Button type="submit" label="Make the key" size="small" :disabled="!mayMake" />
        <Button label="Cancel" severity="secondary" size="small" @click="emit('close')" />
      </div>
    </form>
  </div>
</template>

<style scoped>
.new {
  margin: 0.6rem 0;
  padding: 0.9rem 1rem;
  border: 1px solid var(--rule);
  border-radius: 10px;
  background: var(--card);
}
form,
.made {
  display: flex;
  flex-direction: column;
  gap: 0.8rem;
  align-items: stretch;
}
.made > * {
  align-self: start;
}
.fields {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(12rem, 1fr));
  gap: 0.8rem;
}
.fields > div,
.wide {
  display: flex;
  flex-direction: column;
  gap: 0.25rem;
}
.wide {
  max-width: 38rem;
}
fieldset {
  display: flex;
  flex-wrap: wrap;
  gap: 0.3rem 1.2rem;
  margin: 0;
  padding: 0;
  border: 0;
}
legend {
  padding: 0;
  margin-bottom: 0.25rem;
}
.some {
  flex-basis: 100%;
  display: flex;
  flex-wrap: wrap;
  gap: 0.3rem 1.2rem;
  max-height: 10rem;
  overflow: auto;
}
.can {
  padding: 0.6rem 0.8rem;
  border-inline-start: 4px solid var(--p-primary-color);
  background: var(--page);
}
.day {
  font: inherit;
  margin-top: 0.3rem;
}
.ways,
.secret {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.5rem;
}
.secret code {
  padding: 0.5rem 0.7rem;
  border: 1px dashed var(--rule);
  background: var(--page);
  font-size: 1rem;
  user-select: all;
}
h3 {
  font-size: 1rem;
}
</style>
