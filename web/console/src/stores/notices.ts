import { defineStore } from 'pinia'
import { shallowRef } from 'vue'

/** Something that a user is told in passing. */
export interface Notice {
  kind: 'done' | 'failed'
  text: string
  offer?: Offer // what can be done about it
}

export interface Offer {
  label: string
  act: () => void
}

/** What users are told in passing; the page shows it as it comes. */
export const useNotices = defineStore('notices', () => {
  const latest = shallowRef<Notice | null>(null)
  const done = (text: string, offer?: Offer) => (latest.value = { kind: 'done', text, ...(offer && { offer }) })
  const failed = (text: string) => (latest.value = { kind: 'failed', text })
  return { latest, done, failed }
})
