import { computed, ref, shallowRef } from 'vue'

const kept = 100 // steps

/** Undo and redo of what is being edited: take looks at it as it is, put makes it what it was. */
export function useSteps<T>(take: () => T, put: (state: T) => void) {
  const past = shallowRef<string[]>([]) // the newest last
  const future = shallowRef<string[]>([]) // the next last
  const now = ref('')

  /** Begins anew with what there is. */
  function begin(): void {
    past.value = []
    future.value = []
    now.value = JSON.stringify(take())
  }

  /** Notes that something was changed. What is typed in one go is one step, as its caller has it. */
  function step(): void {
    const is = JSON.stringify(take())
    if (is === now.value) return
    past.value = [...past.value, now.value].slice(-kept)
    future.value = []
    now.value = is
  }

  function go(from: typeof past, to: typeof past): void {
    step() // what was not noted yet
    const next = from.value.at(-1)
    if (next === undefined) return
    from.value = from.value.slice(0, -1)
    to.value = [...to.value, now.value]
    now.value = next
    put(JSON.parse(next) as T)
  }
  return {
    begin,
    step,
    undo: () => go(past, future),
    redo: () => go(future, past),
    canUndo: computed(() => past.value.length > 0),
    canRedo: computed(() => future.value.length > 0),
  }
}
