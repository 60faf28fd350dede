import { onScopeDispose, ref, type Ref } from 'vue'

/** The time in ms, once a second. */
export function useNow(): Ref<number> {
  const now = ref(Date.now())
  const timer = window.setInterval(() => (now.value = Date.now()), 1000)
  onScopeDispose(() => window.clearInterval(timer))
  return now
}
