import { onMounted, ref, type Ref, shallowRef } from 'vue'
import { explain } from '../api/explain'
import { useNotices } from '../stores/notices'

/** A list of the service's that is read when it is first shown, and after each change. */
export function useList<T>(fetchAll: () => Promise<T[]>) {
  const list = shallowRef<T[] | null>(null) as Ref<T[] | null> // null until first known
  const problem = ref<string | null>(null)
  const notices = useNotices()

  async function refresh(): Promise<void> {
    try {
      list.value = await fetchAll()
      problem.value = null
    } catch (e) {
      problem.value = explain(e)
    }
  }
  onMounted(refresh)

  /** Changes something, and tells the user that it is done, or that it is not and why. */
  async function change(what: () => Promise<void>, done: string, not: string): Promise<void> {
    try {
      await what()
      notices.done(done)
    } catch (e) {
      notices.failed(`${not} ${explain(e)}`)
    }
    await refresh()
  }

  return { list, problem, refresh, change }
}
