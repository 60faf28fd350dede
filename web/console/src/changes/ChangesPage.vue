<script setup lang="ts">
import Button from 'primevue/button'
import Message from 'primevue/message'
import { computed, onMounted, onUnmounted, reactive, ref, shallowRef, watch } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'
import { type Change, fetchHistory, type History, historyPath, undoChange } from '../api/edits'
import { explain, ServiceError } from '../api/explain'
import { follow, isLive } from '../api/live'
import { useCollections } from '../stores/collections'
import { useNotices } from '../stores/notices'
import { useSession } from '../stores/session'
import { counted, momentText } from '../text/format'
import ChangeDetails from './ChangeDetails.vue'
import SuggestionList from './SuggestionList.vue'
import { boxOf, kindOf, ways, whoOf } from './words'

// The history: what was changed, by whom and when, as it happens. Changes are taken back here.
const route = useRoute()
const router = useRouter()
const store = useCollections()
const session = useSession()
const notices = useNotices()

const asked = (name: string) => (typeof route.query[name] === 'string' ? route.query[name] : '')
const chosen = reactive({
  collection: asked('collection'),
  way: asked('way'),
  actor: asked('actor'),
  from: asked('from'),
  until: asked('until'),
  box: asked('box'),
})
/** What the map shows, or showed last, as its box. */
const onMap = () => sessionStorage.getItem('idlebeacon-box') ?? ''
const changes = shallowRef<Change[]>([])
const more = ref(false)
const problem = ref<string | null>(null)
const busy = ref(true)
const opened = ref(0) // the number of the change that is shown whole; 0 for none
const later = shallowRef<{ change: Change; count: number; first: Change } | null>(null) // what is in the way of an undo
let following = new AbortController()
let timer = 0

const query = (before = 0): History => ({ ...chosen, before })
const actors = computed(() => new Map(changes.value.map((c) => [c.actor, c.by || c.actor])))

/** Shows the newest changes, and new ones as they come, until something else is asked for. */
async function load(): Promise<void> {
  following.abort()
  const mine = (following = new AbortController())
  busy.value = true
  try {
    const page = await fetchHistory(query(), mine.signal)
    if (mine.signal.aborted) return
    changes.value = page.changes
    more.value = page.more
    problem.value = null
    follow(historyPath(query()), () => void newest(mine.signal), mine.signal)
  } catch (e) {
    if (mine.signal.aborted) return
    problem.value = explain(e)
  }
  busy.value = false
}

/** Puts what has happened since before what is shown. */
async function newest(signal: AbortSignal): Promise<void> {
  const { changes: fresh } = await fetchHistory(query(), signal)
  const seen = new Map(fresh.map((c) => [c.number, c]))
  const least = Math.min(...seen.keys())
  changes.value = [...fresh, ...changes.value.filter((c) => c.number < least)]
}

async function further(): Promise<void> {
  const last = changes.value.at(-1)
  if (!last) return
  busy.value = true
  try {
    const page = await fetchHistory(query(last.number), following.signal)
    changes.value = [...changes.value, ...page.changes]
    more.value = page.more
  } catch (e) {
    problem.value = explain(e)
  }
  busy.value = false
}

watch(chosen, () => {
  const said = Object.fromEntries(Object.entries(chosen).filter(([, value]) => value !== ''))
  void router.replace({ query: said })
  void load()
})
onMounted(() => {
  void load()
  timer = window.setInterval(() => {
    if (!isLive() && !document.hidden && changes.value.length <= 50) void load()
  }, 5000)
})
onUnmounted(() => {
  following.abort()
  clearInterval(timer)
})

async function undo(change: Change, force = false): Promise<void> {
  later.value = null
  try {
    await undoChange(change.number, force)
    notices.done(`Change ${change.number} is taken back.`)
    if (!isLive()) void load()
  } catch (e) {
    const problem = e instanceof ServiceError ? (e.problem as { later?: Change[] } | null) : null
    const first = problem?.later?.[0]
    if (first) later.value = { change, count: problem?.later?.length ?? 1, first }
    else notices.failed(`Change ${change.number} is not taken back. ${explain(e)}`)
  }
}
/** Whether a change can be taken back here: one to items, or what an owner has told of a collection. */
const undoable = (c: Change) =>
  session.edits &&
  (c.item !== undefined || c.op === 'fill' || c.op === 'merge' || (session.owner && c.op === 'replace'))
const titleOf = (id: string) => store.find(id)?.title ?? id
</script>

<template>
  <main>
    <h1 tabindex="-1">Changes</h1>
    <div class="choice" role="group" aria-label="Which changes">
      <label
        >Collection
        <select v-model="chosen.collection">
          <option value="">all</option>
          <option v-for="c in store.collections ?? []" :key="c.id" :value="c.id">{{ c.title }}</option>
        </select>
      </label>
      <label
        >How
        <select v-model="chosen.way">
          <option value="">in any way</option>
          <option v-for="(text, way) in ways" :key="way" :value="way">{{ text }}</option>
        </select>
      </label>
      <label
        >Who
        <select v-model="chosen.actor">
          <option value="">anybody</option>
          <option v-if="chosen.actor && !actors.has(chosen.actor)" :value="chosen.actor">{{ chosen.actor }}</option>
          <option v-for="[id, name] in [...actors].filter(([id]) => id !== '')" :key="id" :value="id">{{
            name
          }}</option>
        </select>
      </label>
      <label>From <input v-model="chosen.from" type="date" /></label>
      <label>to <input v-model="chosen.until" type="date" /></label>
      <label v-if="chosen.box || onMap()"
        ><input
          type="checkbox"
          :checked="chosen.box !== ''"
          @change="chosen.box = ($event.target as HTMLInputElement).checked ? onMap() : ''"
        />
        only what the map showed</label
      >
    </div>
    <SuggestionList v-if="session.session && !session.guest" :collection="chosen.collection" />
    <Message v-if="problem" severity="error">{{ problem }}</Message>
    <p v-else-if="!busy && changes.length === 0" class="soft">There are no such changes.</p>
    <ol class="rows">
      <li v-for="c in changes" :key="c.number" :data-change="c.number" :class="{ open: opened === c.number }">
        <button
          type="button"
          class="line"
          :aria-expanded="opened === c.number"
          @click="opened = opened === c.number ? 0 : c.number"
        >
          <span class="number">{{ c.number }}</span>
          <span class="what"
            ><b dir="auto">{{ kindOf(c, store.find(c.collection)?.name_property ?? '') }}</b>
            <span class="soft" dir="auto">{{ titleOf(c.collection) }}</span></span
          >
          <span class="who" dir="auto">{{ whoOf(c) }}</span>
          <time :datetime="c.at">{{ momentText(c.at) }}</time>
        </button>
        <div v-if="opened === c.number" class="whole">
          <ChangeDetails :change="c" />
          <Message v-if="later?.change.number === c.number" severity="warn" class="later">
            <template v-if="later.count > 1">{{ counted(later.count, 'change', 'changes') }} came</template
            ><template v-else>Change {{ later.first.number }} came</template> later to the same item. Taking this one
            back takes back these, too.
            <Button label="Take back all" size="small" severity="danger" @click="undo(c, true)" />
          </Message>
          <p class="ways">
            <Button v-if="undoable(c)" label="Take back" size="small" severity="secondary" @click="undo(c)" />
            <RouterLink v-if="boxOf(c)" :to="{ name: 'map', query: { show: boxOf(c) } }">Show on the map</RouterLink>
          </p>
        </div>
      </li>
    </ol>
    <p v-if="busy" role="status">Loading …</p>
    <p v-else-if="more"><Button label="Older changes" severity="secondary" @click="further" /></p>
  </main>
</template>

<style scoped>
main {
  flex: 1;
  min-height: 0;
  overflow: auto;
  padding: 1rem;
}
main > * {
  max-width: 1000px;
  margin-inline: auto;
}
h1 {
  font-size: 1.25rem;
}
.choice {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem 1.2rem;
  margin-block: 0.6rem;
}
select,
input[type='date'] {
  max-width: 14rem;
  padding: 0.3rem 0.5rem;
  border: 1px solid var(--rule);
  border-radius: 6px;
  background: var(--card);
  color: inherit;
  font: inherit;
}
.rows {
  list-style: none;
  margin-block: 0.6rem;
  padding: 0;
  border: 1px solid var(--rule);
  background: var(--card);
}
li + li {
  border-top: 1px solid var(--rule);
}
.line {
  display: grid;
  grid-template-columns: 4rem 1fr 13rem max-content;
  gap: 0.2rem 0.8rem;
  width: 100%;
  padding: 0.5rem 0.8rem;
  border: 0;
  background: none;
  color: inherit;
  font: inherit;
  text-align: start;
  cursor: pointer;
}
.line:hover,
.open > .line {
  background: color-mix(in srgb, var(--rule) 40%, transparent);
}
.number,
time {
  font-variant-numeric: tabular-nums;
}
.what,
.who {
  min-width: 0;
  overflow-wrap: anywhere;
}
.what > * {
  display: block;
}
.whole {
  padding: 0.3rem 0.8rem 0.8rem;
}
.ways {
  display: flex;
  align-items: center;
  gap: 1rem;
  margin-top: 0.6rem;
}
.later {
  margin-top: 0.6rem;
}
@media (max-width: 700px) {
  .line {
    grid-template-columns: 3.5rem 1fr;
  }
  .line > :nth-child(n + 3) {
    grid-column: 2;
  }
}
</style>
