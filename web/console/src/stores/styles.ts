import { iconPicture, Looks, setIconSheet, type Style } from '@idlebeacon/map'
import { defineStore } from 'pinia'
import { shallowRef, watch } from 'vue'
import type { Collection } from '../api/collections'
import { fetchIconSheet } from '../api/icons'
import { fetchStyle, type StoredStyle, type StyleDocument } from '../api/styles'
import { useCollections } from './collections'

/** A collection's style with the looks that follow from it. */
export interface Styled {
  style: StoredStyle
  looks: Looks
}

/** Gets the icons that users brought, if a style names one that is not known yet. */
export async function needIcons(style: StyleDocument): Promise<void> {
  const named = [style.default, ...(style.categories ?? []), ...(style.rules ?? [])].map((l) => l?.icon)
  if (named.some((n) => n && !iconPicture(n))) setIconSheet(await fetchIconSheet())
}

/** The styles of the collections, kept up to date. One that is not known yet is not among them. */
export const useStyles = defineStore('styles', () => {
  const styles = shallowRef<ReadonlyMap<string, Styled>>(new Map())
  const asked = new Map<string, string>()
  const collections = useCollections()

  // What a proposed style is made from are the categories.
  const changeOf = (c: Collection) => `${c.own_change} ${JSON.stringify(c.categories.map((k) => k.category))}`

  async function load(c: Collection): Promise<void> {
    const change = changeOf(c)
    if (asked.get(c.id) === change) return
    asked.set(c.id, change)
    try {
      const style = await fetchStyle(c.id)
      await needIcons(style)
      if (asked.get(c.id) !== change) return
      if (JSON.stringify(styles.value.get(c.id)?.style) === JSON.stringify(style)) return
      styles.value = new Map(styles.value).set(c.id, { style, looks: new Looks(style as Style) })
    } catch {
      asked.delete(c.id) // asked again with the next look at the collections
    }
  }

  watch(
    () => collections.collections,
    (now) => now?.forEach((c) => void load(c)),
    { immediate: true },
  )
  return { styles }
})
