import { onScopeDispose, ref, shallowRef } from 'vue'
import { explain } from '../api/explain'
import { onNotices } from '../api/live'
import { fetchNotices, type Noticed, type NoticeListing } from '../api/watches'

/** The newest notices that an asking is about, kept up to date; told is called with those that are new. */
export function useNoticed(ask: NoticeListing, takes: (n: Noticed) => boolean, told?: (some: Noticed[]) => void) {
  const all = shallowRef<Noticed[]>([])
  const more = ref(false)
  const problem = ref<string | null>(null)
  const known = ref(false)
  const abort = new AbortController()
  const { signal } = abort
  onScopeDispose(() => abort.abort())

  const newest = () => all.value[0]?.number ?? 0
  function take(some: readonly Noticed[], most: number): Noticed[] {
    const last = newest()
    const fresh = some.filter((n) => (n.number ?? 0) > last && takes(n))
    if (fresh.length > 0) all.value = [...[...fresh].reverse(), ...all.value].slice(0, most)
    return fresh
  }

  async function load(): Promise<void> {
    try {
      const page = await fetchNotices(ask, signal)
      if (known.value) take([...page.notices].reverse(), 1000)
      else {
        all.value = page.notices
        more.value = page.more
      }
      known.value = true
      problem.value = null
    } catch (e) {
      if (!signal.aborted) problem.value = explain(e)
    }
  }

  /** Adds older ones. */
  async function further(): Promise<void> {
    const last = all.value.at(-1)?.number
    if (last === undefined) return
    try {
      const page = await fetchNotices({ ...ask, before: last }, signal)
      all.value = [...all.value, ...page.notices]
      more.value = page.more
    } catch (e) {
      if (!signal.aborted) problem.value = explain(e)
    }
  }

  onNotices((some) => {
    if (some.length === 0)
      void load() // the stream has begun anew
    else {
      const fresh = take(some, Math.max(1000, all.value.length))
      if (fresh.length > 0) told?.(fresh)
    }
  }, signal)
  void load()
  return { all, more, problem, known, further }
}
