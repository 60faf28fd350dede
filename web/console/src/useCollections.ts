import { onMounted, onUnmounted, ref } from 'vue'
import { type Collection, fetchCollections } from './api/client'

const refreshEvery = 5_000 // ms

/** Keeps the list of collections up to date, and says whether the service answers. */
export function useCollections() {
  const collections = ref<Collection[] | null>(null) // null until first known
  const problem = ref<string | null>(null)
  let timer = 0
  let request: AbortController | null = null

  async function refresh(): Promise<void> {
    request?.abort()
    const mine = (request = new AbortController())
    try {
      collections.value = await fetchCollections(mine.signal)
      problem.value = null
    } catch (e) {
      if (mine.signal.aborted) return
      problem.value = e instanceof TypeError ? 'The service does not answer.' : sentence((e as Error).message)
    }
  }

  onMounted(() => {
    void refresh()
    timer = window.setInterval(() => {
      if (!document.hidden || problem.value) void refresh()
    }, refreshEvery)
  })
  onUnmounted(() => {
    clearInterval(timer)
    request?.abort()
  })
  return { collections, problem, refresh }
}

/** Makes a sentence of what the service said. */
function sentence(text: string): string {
  return text.charAt(0).toUpperCase() + text.slice(1) + (text.endsWith('.') ? '' : '.')
}
