import { ref } from 'vue'
import { explain } from '../api/explain'

/** Something that is done for the user, one thing at a time: whether it goes on, and what went wrong with it. */
export function useDoing(before: string | null = null) {
  const busy = ref(false)
  const problem = ref<string | null>(before)

  async function during(what: () => Promise<void>): Promise<void> {
    busy.value = true
    problem.value = null
    try {
      await what()
    } catch (e) {
      problem.value = explain(e)
    }
    busy.value = false
  }

  return { busy, problem, during }
}
