<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Message from 'primevue/message'
import { computed, onUnmounted, ref, shallowRef, watch } from 'vue'
import { explain } from '../api/explain'
import { follow } from '../api/live'
import {
  acceptSuggestion,
  declineSuggestion,
  fetchSuggestions,
  type Suggestion,
  suggestionsPath,
} from '../api/suggestions'
import { useCollections } from '../stores/collections'
import { useNotices } from '../stores/notices'
import { useSession } from '../stores/session'
import { counted } from '../text/format'
import SuggestionCard from './SuggestionCard.vue'

// What is suggested and waits to be decided on, in one collection or in all; for who may not edit, their own.
const props = defineProps<{ collection: string }>() // '' for all
const emit = defineEmits<{ listed: [all: readonly Suggestion[]] }>()

const store = useCollections()
const session = useSession()
const notices = useNotices()
const lists = shallowRef<ReadonlyMap<string, { suggestions: readonly Suggestion[]; more: boolean }>>(new Map()) // by id
const chosen = ref<ReadonlySet<string>>(new Set())
const problem = ref<string | null>(null)
const busy = ref(false)
const word = ref('') // to all that are decided on together
let following = new AbortController()

const state = computed(() => (session.edits ? 'open' : ''))
const asked = computed(() =>
  (store.collections ?? []).map((c) => c.id).filter((id) => props.collection === '' || id === props.collection),
)
const all = computed(() => asked.value.flatMap((id) => lists.value.get(id)?.suggestions ?? []))
watch(all, (now) => emit('listed', now))
const more = computed(() => asked.value.some((id) => lists.value.get(id)?.more))
const picked = computed(() => all.value.filter((s) => chosen.value.has(s.id)))

async function load(collection: string, signal: AbortSignal): Promise<void> {
  try {
    const found = await fetchSuggestions(collection, state.value, signal)
    lists.value = new Map(lists.value).set(collection, found)
    problem.value = null
  } catch (e) {
    if (!signal.aborted) problem.value = explain(e)
  }
}
const reload = () => void Promise.all(asked.value.map((id) => load(id, following.signal)))

watch(
  () => asked.value.join(),
  () => {
    following.abort()
    const { signal } = (following = new AbortController())
    for (const id of asked.value) {
      void load(id, signal)
      follow(suggestionsPath(id, state.value), () => void load(id, signal), signal)
    }
  },
  { immediate: true },
)
onUnmounted(() => following.abort())

function choose(s: Suggestion, on: boolean): void {
  const next = new Set(chosen.value)
  if (on) next.add(s.id)
  else next.delete(s.id)
  chosen.value = next
}

/** Decides on all that are chosen, one after the other. */
async function decide(work: (s: Suggestion) => Promise<unknown>, done: string): Promise<void> {
  busy.value = true
  let n = 0
  const failed: string[] = []
  for (const s of picked.value) {
    try {
      await work(s)
      n++
    } catch (e) {
      failed.push(explain(e))
    }
  }
  chosen.value = new Set()
  word.value = ''
  if (n > 0) notices.done(`${counted(n, 'suggestion is', 'suggestions are')} ${done}.`)
  if (failed[0])
    notices.failed(`${counted(failed.length, 'suggestion is', 'suggestions are')} not ${done}. ${failed[0]}`)
  busy.value = false
  reload()
}
</script>

<template>
  <section v-if="all.length > 0 || problem" aria-labelledby="suggestions-title">
    <h2 id="suggestions-title">{{
      session.edits ? `${counted(all.length, 'suggestion', 'suggestions')} to decide on` : 'What you have suggested'
    }}</h2>
    <p v-if="more" class="soft">{{
      session.edits
        ? 'There are more. They come when you have decided on some of these.'
        : 'Older ones are not shown here.'
    }}</p>
    <Message v-if="problem" severity="error">{{ problem }}</Message>
    <div v-if="picked.length > 1" class="together">
      <span>{{ picked.length }} chosen</span>
      <Button
        label="Accept them"
        size="small"
        :disabled="busy"
        @click="decide((s) => acceptSuggestion(s, word.trim()), 'accepted')"
      />
      <Button
        label="Decline them"
        size="small"
        severity="secondary"
        :disabled="busy"
        @click="decide((s) => declineSuggestion(s, word.trim()), 'declined')"
      />
      <InputText
        v-model="word"
        size="small"
        aria-label="A word to who suggested them"
        placeholder="A word to who suggested them"
        maxlength="1000"
      />
    </div>
    <ul>
      <li v-for="s in all" :key="s.id">
        <SuggestionCard
          :suggestion="s"
          :decides="session.edits"
          :chosen="chosen.has(s.id)"
          @choose="(on) => choose(s, on)"
          @decided="reload"
        >
          <p v-if="!session.edits" class="soft"
            >{{
              {
                open: 'Nobody has decided yet.',
                accepted: 'Accepted.',
                declined: 'Declined.',
                withdrawn: 'Withdrawn.',
              }[s.state]
            }}
            <template v-if="s.word">“{{ s.word }}”</template></p
          >
        </SuggestionCard>
      </li>
    </ul>
  </section>
</template>

<style scoped>
h2 {
  font-size: 1rem;
  margin-block: 0.6rem;
}
.together {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.4rem 0.7rem;
  margin-bottom: 0.5rem;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
  border: 1px solid var(--rule);
  background: var(--card);
}
li + li {
  border-top: 1px solid var(--rule);
}
</style>
