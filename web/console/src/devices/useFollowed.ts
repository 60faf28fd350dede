import { onScopeDispose, ref, shallowRef, watch, type Ref } from 'vue'
import { explain } from '../api/explain'
import { follow } from '../api/live'

/** Keeps an answer up to date: fetches it, and again whenever it has changed or its path has. */
export function useFollowed<T>(path: () => string | null, fetch: (signal: AbortSignal) => Promise<T>) {
  const value = shallowRef<T | null>(null) as Ref<T | null>
  const problem = ref<string | null>(null)
  let mine = new AbortController()

  async function load(signal: AbortSignal): Promise<void> {
    try {
      const found = await fetch(signal)
      if (signal.aborted) return
      value.value = found
      problem.value = null
    } catch (e) {
      if (!signal.aborted) problem.value = explain(e)
    }
  }

  watch(
    path,
    (now) => {
      mine.abort()
      const { signal } = (mine = new AbortController())
      if (now === null) return
      void load(signal)
      follow(now, () => void load(signal), signal)
    },
    { immediate: true },
  )
  onScopeDispose(() => mine.abort())
  return { value, problem }
}
