import { inject, type InjectionKey, onMounted, onUnmounted, provide, type Ref, ref } from 'vue'
import { type Collection, fetchCollections } from './api/client'

const refreshEvery = 5_000 // ms

/** The list of collections, and whether the service answers. */
export interface Collections {
  collections: Ref<Collection[] | null> // null until first known
  problem: Ref<string | null>
  refresh(): Promise<void>
}

const key: InjectionKey<Collections> = Symbol('collections')

/** The collections that the page above keeps. */
export function useCollections(): Collections {
  const kept = inject(key)
  if (!kept) throw new Error('nothing keeps the collections')
  return kept
}

/** Keeps the list of collections up to date for all that is below. */
export function keepCollections(): void {
  const collections = ref<Collection[] | null>(null)
  const problem = ref<string | null>(null)
  let timer = 0
  let request: AbortController | null = null
  let running = false

  async function refresh(): Promise<void> {
    request?.abort()
    const mine = (request = new AbortController())
    running = true
    try {
      collections.value = await fetchCollections(mine.signal)
      problem.value = null
    } catch (e) {
      if (mine.signal.aborted) return
      problem.value = e instanceof TypeError ? 'The service does not answer.' : sentence((e as Error).message)
    } finally {
      if (request === mine) running = false
    }
  }

  onMounted(() => {
    void refresh()
    timer = window.setInterval(() => {
      // An answer that takes its time is waited for.
      if (!running && (!document.hidden || problem.value)) void refresh()
    }, refreshEvery)
  })
  onUnmounted(() => {
    clearInterval(timer)
    request?.abort()
  })
  provide(key, { collections, problem, refresh })
}

/** Makes a sentence of what the service said. */
function sentence(text: string): string {
  return text.charAt(0).toUpperCase() + text.slice(1) + (text.endsWith('.') ? '' : '.')
}
