import type { StoredItem } from '../api/edits'
import type { Draft } from './useForm'

/** An edit that is not saved yet. */
export interface Unsaved {
  collection: string
  item: string | null // null for a new one
  from: StoredItem | null // the item as it was when the edit began
  draft: Draft
}

const key = 'idlebeacon-unsaved-2'

/** Keeps an edit that is not saved, through a reload and signing out. */
export function keep(edit: Unsaved): void {
  try {
    localStorage.setItem(key, JSON.stringify(edit))
  } catch {
    // Without room, or where nothing may be kept, it lives as long as the page.
  }
}

/** The edit that was not saved, or null. */
export function kept(): Unsaved | null {
  try {
    return JSON.parse(localStorage.getItem(key) ?? 'null') as Unsaved | null
  } catch {
    return null
  }
}

export function forget(): void {
  localStorage.removeItem(key)
}
