import { defineStore } from 'pinia'
import { ref, shallowRef } from 'vue'
import { type Collection, collectionsPath, fetchCollections } from '../api/collections'
import { explain } from '../api/explain'
import { follow as followAnswer, isLive } from '../api/live'

const refreshEvery = 5_000 // ms, while the service does not tell by itself

/** The list of collections, and whether the service answers. */
export const useCollections = defineStore('collections', () => {
  const collections = shallowRef<Collection[] | null>(null) // null until first known
  const problem = ref<string | null>(null)
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
      problem.value = explain(e)
    } finally {
      if (request === mine) running = false
    }
  }

  /** Keeps the list up to date, and returns what ends that. */
  function follow(): () => void {
    void refresh()
    const following = new AbortController()
    followAnswer(collectionsPath, () => void refresh(), following.signal)
    const timer = window.setInterval(() => {
      // An answer that takes its time is waited for.
      if (!running && !(isLive() && !problem.value) && (!document.hidden || problem.value)) void refresh()
    }, refreshEvery)
    return () => {
      clearInterval(timer)
      following.abort()
      request?.abort()
    }
  }

  const find = (id: string | undefined) => collections.value?.find((c) => c.id === id)

  return { collections, problem, refresh, follow, find }
})
