import { defineStore } from 'pinia'
import { computed, ref, watch } from 'vue'
import { type Edit, isAway, newName, saveEdits, verdictsOf } from '../api/edits'
import { explain } from '../api/explain'
import { useNotices } from '../stores/notices'
import { counted } from '../text/format'

/** An edit that waits to be saved together with others, or for the service to come back. */
export interface Waiting {
  request: string // the name under which it is asked for, so that it is not done twice
  name: string // what it is about, for people
  collection: string
  edit: Edit
  sends: boolean // it goes as soon as the service is there; others wait until they are saved by hand
  problem?: string // what stood against it
}

const key = 'idlebeacon-waiting' // the map page looks whether it is there
const tryEvery = 5000 // ms

function read(): Waiting[] {
  try {
    const kept = JSON.parse(localStorage.getItem(key) ?? '[]') as (Omit<Waiting, 'request'> & { request?: string })[]
    return kept.map((w) => ({ ...w, request: w.request ?? newName() })) // earlier versions kept none
  } catch {
    return []
  }
}

/** The edits that are not saved yet. They outlive a reload and signing out. */
export const useTray = defineStore('tray', () => {
  const notices = useNotices()
  const waiting = ref<Waiting[]>(read())
  const away = ref(false) // the service was not there when something was sent
  const busy = ref(false)
  let timer = 0

  watch(
    waiting,
    (all) => {
      try {
        if (all.length === 0) localStorage.removeItem(key)
        else localStorage.setItem(key, JSON.stringify(all))
      } catch {
        notices.failed('The browser has no room for what is not saved. Save it before you leave this page.')
      }
    },
    { deep: true },
  )
  // Another page of this browser has added or saved some.
  window.addEventListener('storage', (e) => {
    if (e.key === key && e.newValue !== JSON.stringify(waiting.value)) waiting.value = read()
  })

  function add(w: Waiting): void {
    // Another edit of the same item takes the place of the one before.
    const same = (o: Waiting) => o.collection === w.collection && o.edit.id !== undefined && o.edit.id === w.edit.id
    waiting.value = [...waiting.value.filter((o) => !same(o)), w]
    if (w.sends) again()
  }
  const without = (some: readonly Waiting[]) => {
    const gone = new Set(some.map((w) => w.request)) // they may have been read anew meanwhile
    waiting.value = waiting.value.filter((w) => !gone.has(w.request))
  }
  const drop = (w: Waiting) => without([w])
  const clear = () => (waiting.value = [])

  /**
   * Saves edits, those of a collection as one. Those that were sent before go by themselves, under the name that they
   * had: they may have been done without an answer.
   */
  async function save(which: (w: Waiting) => boolean): Promise<void> {
    if (busy.value) return
    busy.value = true
    let saved = 0
    const group = (w: Waiting) => (w.sends ? w.request : w.collection)
    const all = waiting.value.filter(which)
    for (const of of new Set(all.map(group))) {
      const mine = all.filter((w) => group(w) === of)
      const [first, last] = [mine[0], mine.at(-1)]
      if (!first || !last) continue
      const name = first === last ? first.request : `${first.request}-${mine.length}-${last.request}`
      try {
        await saveEdits(
          first.collection,
          mine.map((w) => w.edit),
          name,
        )
        without(mine)
        saved += mine.length
        away.value = false
      } catch (e) {
        if (isAway(e)) {
          away.value = true
          break
        }
        refuse(mine, e)
      }
    }
    busy.value = false
    if (saved > 0) notices.done(`${counted(saved, 'edit is', 'edits are')} saved.`)
    if (away.value) again()
  }

  /** Notes what stands against edits. Those that could be done wait for those that could not. */
  function refuse(mine: readonly Waiting[], error: unknown): void {
    const verdicts = verdictsOf(error)
    const couldBeDone = 424
    for (const w of waiting.value) {
      const i = mine.findIndex((m) => m.request === w.request)
      if (i < 0) continue
      const verdict = verdicts.find((v) => v.edit === i)
      w.sends = false
      delete w.problem
      if (!verdict) w.problem = explain(error)
      else if (verdict.status !== couldBeDone) w.problem = verdict.detail
    }
    notices.failed('Nothing of what belongs together is saved: see what stands against it.')
  }

  function again(): void {
    clearTimeout(timer)
    timer = window.setTimeout(() => void save((w) => w.sends), tryEvery)
  }
  window.addEventListener('online', () => void save((w) => w.sends))
  if (waiting.value.some((w) => w.sends)) again()

  const sending = computed(() => waiting.value.filter((w) => w.sends).length)
  return { waiting, away, busy, sending, add, drop, clear, saveAll: () => save(() => true) }
})
