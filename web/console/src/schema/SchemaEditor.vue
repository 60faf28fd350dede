<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Message from 'primevue/message'
import { computed, onMounted, ref, shallowRef } from 'vue'
import { RouterLink } from 'vue-router'
import type { Collection } from '../api/collections'
import { explain, ServiceError } from '../api/explain'
import { checkSchema, dropSchema, fetchSchema, type JsonSchema, saveSchema, type SchemaReport } from '../api/schemas'
import Icon from '../parts/Icon.vue'
import { useNotices } from '../stores/notices'
import { withID } from '../text/condition'
import { counted } from '../text/format'
import PropertyRow from './PropertyRow.vue'
import { geometries, geometryOf, type Row, rowsOf, withGeometry, withRows } from './rows'

// What the items of a collection have to be: property by property, or as the document that it is.
const props = defineProps<{ collection: Collection }>()
const emit = defineEmits<{ saved: [] }>()

const notices = useNotices()
const schema = shallowRef<JsonSchema | null>(null)
const said = ref(false) // somebody has said so; otherwise it tells what the items are
const report = shallowRef<SchemaReport | null>(null) // of the schema as it is here
const problem = ref<string | null>(null)
const busy = ref(false)
const dirty = ref(false)
const overtaken = ref(false)
const adding = ref('')
const text = ref('') // the document, as it is being written
let tag = '*'

const rows = computed(() => (schema.value ? rowsOf(schema.value) : []))
const closed = computed(() => schema.value?.additionalProperties === false)

async function load(): Promise<void> {
  try {
    const found = await fetchSchema(props.collection.id)
    const { $id: _, ...document } = found.schema as JsonSchema & { $id?: string }
    change(document)
    said.value = found.said
    tag = found.tag
    problem.value = null
    dirty.value = overtaken.value = false
  } catch (e) {
    problem.value = explain(e)
  }
}
onMounted(load)

function change(next: JsonSchema): void {
  schema.value = next
  text.value = JSON.stringify(next, null, 2)
  report.value = null
  dirty.value = true
}
const set = (next: readonly Row[]) => schema.value && change(withRows(schema.value, next))
const replace = (i: number, row: Row) => set(rows.value.map((r, j) => (j === i ? row : r)))
function lift(i: number): void {
  const next = [...rows.value]
  next.splice(i - 1, 0, ...next.splice(i, 1))
  set(next)
}
function add(): void {
  const name = adding.value.trim()
  if (name === '' || rows.value.some((r) => r.name === name)) return
  set([...rows.value, { name, part: {}, required: false }])
  adding.value = ''
}
function close(on: boolean): void {
  if (!schema.value) return
  const { additionalProperties: _, ...rest } = schema.value
  change(on ? { ...rest, additionalProperties: false } : rest)
}
function write(): void {
  try {
    change(JSON.parse(text.value) as JsonSchema)
    problem.value = null
  } catch (e) {
    problem.value = `The document is not valid JSON: ${(e as Error).message}`
  }
}

/** Runs what asks the service, and says what it has against it. */
async function asking(work: (schema: JsonSchema) => Promise<void>): Promise<void> {
  if (!schema.value || busy.value) return
  busy.value = true
  problem.value = null
  try {
    await work(schema.value)
  } catch (e) {
    overtaken.value = e instanceof ServiceError && e.status === 412
    problem.value = overtaken.value ? 'Somebody else has changed this meanwhile.' : explain(e)
  }
  busy.value = false
}
const check = () => asking(async (s) => void (report.value = await checkSchema(props.collection.id, s)))
const save = (over = said.value ? tag : '*') =>
  asking(async (s) => {
    report.value = await saveSchema(props.collection.id, s, over)
    const now = report.value
    await load()
    report.value = now
    notices.done('From now on, new and edited items have to fit.')
    emit('saved')
  })
const drop = () =>
  asking(async () => {
    await dropSchema(props.collection.id)
    await load()
    notices.done('Items can be anything now.')
    emit('saved')
  })
const itemIn = (id: string) => ({
  name: 'collection',
  params: { collection: props.collection.id, part: 'items' },
  query: { filter: withID(id) },
})
</script>

<template>
  <div class="editor">
    <Message v-if="problem" severity="error" class="told"
      >{{ problem }}
      <template v-if="overtaken"
        ><Button label="Go on from theirs" size="small" @click="load" />
        <Button label="Save mine in its place" size="small" severity="secondary" @click="save('*')" /></template
    ></Message>
    <p v-if="schema" class="soft">{{
      said
        ? 'Edits and rows of files that do not fit are refused. Items that do not fit stay until they are edited.'
        : 'There are no rules yet. This is what the items are now. Change it, and save it to make it the rule.'
    }}</p>
    <template v-if="schema">
      <p class="row">
        <label
          >The items are
          <select
            :value="geometryOf(schema)"
            @change="change(withGeometry(schema, ($event.target as HTMLSelectElement).value))"
          >
            <option v-for="(label, format) in geometries" :key="format" :value="format">{{ label }}</option>
            <option v-if="!(geometryOf(schema) in geometries)" :value="geometryOf(schema)">{{
              geometryOf(schema)
            }}</option>
          </select></label
        >
      </p>
      <div class="scroll">
        <table>
          <thead>
            <tr>
              <th>Property</th>
              <th>Called</th>
              <th>Is</th>
              <th>Needed</th>
              <th>Within</th>
              <th />
            </tr>
          </thead>
          <tbody>
            <PropertyRow
              v-for="(r, i) in rows"
              :key="r.name"
              :row="r"
              :first="i === 0"
              @change="(row) => replace(i, row)"
              @lift="lift(i)"
              @remove="set(rows.filter((_, j) => j !== i))"
            />
          </tbody>
        </table>
      </div>
      <p class="row">
        <label :for="`${collection.id}-adding`">Another property</label>
        <InputText :id="`${collection.id}-adding`" v-model="adding" size="small" @keydown.enter.prevent="add" />
        <Button label="Add" size="small" severity="secondary" @click="add" />
        <label
          ><input type="checkbox" :checked="closed" @change="close(($event.target as HTMLInputElement).checked)" /> No
          others than these</label
        >
      </p>
      <details>
        <summary>The whole schema as a document (JSON Schema 2020-12)</summary>
        <textarea v-model="text" rows="14" spellcheck="false" aria-label="Schema document" />
        <Button label="Use this" size="small" severity="secondary" @click="write" />
      </details>
      <div class="row">
        <Button label="Save" size="small" :disabled="busy || (!dirty && said)" @click="save()">
          <template #icon><Icon name="check" /></template>
        </Button>
        <Button label="Try on all items" size="small" severity="secondary" :disabled="busy" @click="check" />
        <Button v-if="said" label="Let items be anything" size="small" severity="secondary" text @click="drop" />
        <span v-if="busy" role="status">Looking at all items …</span>
        <span v-else-if="dirty" role="status" class="soft">Not saved yet</span>
      </div>
      <div v-if="report" class="report" role="status">
        <p v-if="report.failing === 0">All {{ counted(report.checked, 'item fits', 'items fit') }}.</p>
        <template v-else>
          <p
            >{{ counted(report.failing, 'item', 'items') }} of {{ report.checked.toLocaleString('en') }}
            {{ report.failing === 1 ? 'does' : 'do' }} not fit:</p
          >
          <ul>
            <li v-for="i in report.items.slice(0, 20)" :key="i.id">
              <RouterLink :to="itemIn(i.id)">{{ i.id }}</RouterLink>:
              <span v-for="(p, n) in i.problems" :key="p.member"
                ><template v-if="n > 0">, </template>{{ p.member.replace(/^\/(properties\/)?/, '') }} {{ p.reason
                }}<template v-if="p.want"> (want {{ p.want }})</template></span
              >
            </li>
          </ul>
          <p v-if="report.failing > 20" class="soft">… and {{ report.failing - 20 }} more</p>
        </template>
      </div>
    </template>
  </div>
</template>

<style scoped>
.editor {
  flex-basis: 100%;
  min-width: 0;
}
.editor > * + * {
  margin-top: 0.6rem;
}
.scroll {
  overflow-x: auto;
}
table {
  border-collapse: collapse;
}
th {
  text-align: start;
  padding: 0.2rem 0.6rem 0.2rem 0;
  font-weight: 600;
}
.row {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.4rem 0.7rem;
}
select,
textarea {
  padding: 0.3rem 0.5rem;
  border: 1px solid var(--rule);
  border-radius: 6px;
  background: var(--card);
  color: inherit;
  font: inherit;
}
textarea {
  display: block;
  width: 100%;
  margin-block: 0.4rem;
  font-family: ui-monospace, 'DejaVu Sans Mono', monospace;
  font-size: 0.88rem;
}
.report {
  padding: 0.5rem 0.8rem;
  border: 1px solid var(--rule);
  border-radius: 6px;
}
ul {
  margin: 0.3rem 0;
  padding-inline-start: 1.2rem;
}
li {
  overflow-wrap: anywhere;
}
</style>
