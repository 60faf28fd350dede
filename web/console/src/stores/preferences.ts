import { defineStore } from 'pinia'
import { computed, type Ref, ref, watch } from 'vue'

export type Theme = 'system' | 'light' | 'dark'
export type Order = 'title' | 'changed' | 'count' | 'own'

/** What a user likes the console to be like. It is kept in the browser, as far as the browser lets it be. */
export const usePreferences = defineStore('preferences', () => {
  const theme = kept<Theme>('theme', 'system', (v) => ['system', 'light', 'dark'].includes(v))
  const order = kept<Order>('collections-order', 'title', (v) => ['title', 'changed', 'count', 'own'].includes(v))
  const ownText = kept<string>('collections-own', '', () => true)
  const own = computed({
    // The ids of collections in the user's own order; the others follow.
    get: () => ownText.value.split(',').filter(Boolean),
    set: (ids: string[]) => (ownText.value = ids.join(',')),
  })

  const systemDark = ref(false)
  const media = matchMedia('(prefers-color-scheme: dark)')
  systemDark.value = media.matches
  media.addEventListener('change', () => (systemDark.value = media.matches))
  const dark = computed(() => (theme.value === 'system' ? systemDark.value : theme.value === 'dark'))
  watch(
    dark,
    (now) => {
      document.documentElement.classList.toggle('dark', now)
      document.documentElement.style.colorScheme = now ? 'dark' : 'light'
    },
    { immediate: true },
  )
  return { theme, order, own, dark }
})

function kept<T extends string>(name: string, usual: T, allowed: (v: string) => boolean): Ref<T> {
  let was: string | null = null
  try {
    was = localStorage.getItem(name)
  } catch {
    // then it is as usual
  }
  const value = ref(was !== null && allowed(was) ? was : usual) as Ref<T>
  watch(value, (now) => {
    try {
      localStorage.setItem(name, now)
    } catch {
      // then it is as usual the next time
    }
  })
  return value
}
