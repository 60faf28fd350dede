<script setup lang="ts">
import Button from 'primevue/button'
import Message from 'primevue/message'
import { computed, onMounted, onUnmounted, ref, shallowRef } from 'vue'
import { useRoute } from 'vue-router'
import { explain } from '../api/explain'
import { fetchSuggestion, type Suggestion, withdrawSuggestion } from '../api/suggestions'
import { useSession } from '../stores/session'
import SuggestionCard from './SuggestionCard.vue'

// What has become of a suggestion, for who has made it and keeps its address.
const route = useRoute()
const session = useSession()
const suggestion = shallowRef<Suggestion | null>(null)
const problem = ref<string | null>(null)
const sure = ref(false)
const lookEvery = 10_000 // ms
let timer = 0

const at = computed(() => {
  const { collection, suggestion } = route.params
  return [String(collection), String(suggestion), String(route.query.secret ?? '')] as const
})
async function load(): Promise<void> {
  try {
    suggestion.value = await fetchSuggestion(...at.value)
    problem.value = null
  } catch (e) {
    problem.value = explain(e)
  }
}
onMounted(() => {
  void load()
  timer = window.setInterval(() => {
    if (!document.hidden && suggestion.value?.state === 'open') void load()
  }, lookEvery)
})
onUnmounted(() => clearInterval(timer))

async function withdraw(): Promise<void> {
  if (!sure.value) {
    sure.value = true
    return
  }
  sure.value = false
  try {
    await withdrawSuggestion(...at.value)
  } catch (e) {
    problem.value = explain(e)
  }
  await load()
}
const states = {
  open: 'Nobody has decided on it yet. This page tells when somebody has.',
  accepted: 'It was accepted. Thank you.',
  declined: 'It was declined.',
  withdrawn: 'You have taken it back.',
}
</script>

<template>
  <main>
    <h1 tabindex="-1">A suggestion</h1>
    <Message v-if="problem" severity="error">{{ problem }}</Message>
    <template v-if="suggestion">
      <p class="state" role="status">{{ states[suggestion.state] }}</p>
      <p v-if="suggestion.word" dir="auto">The editor says: “{{ suggestion.word }}”</p>
      <SuggestionCard class="card" :suggestion="suggestion" :decides="session.edits" @decided="load" />
      <Button
        v-if="suggestion.state === 'open' && !session.edits"
        :label="sure ? 'Really take it back' : 'Take it back'"
        severity="secondary"
        size="small"
        @click="withdraw"
      />
      <p class="soft">Keep the address of this page to come back to it.</p>
    </template>
    <p v-else-if="!problem" role="status">Loading …</p>
  </main>
</template>

<style scoped>
main {
  flex: 1;
  overflow: auto;
  padding: 1rem;
}
main > * {
  max-width: 760px;
  margin-inline: auto;
}
main > * + * {
  margin-top: 0.7rem;
}
h1 {
  font-size: 1.25rem;
}
.card {
  border: 1px solid var(--rule);
  border-radius: 8px;
  background: var(--card);
}
</style>
