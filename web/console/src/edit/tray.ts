import { defineStore } from 'pinia'
import { computed, ref, watch } from 'vue'
import { type Edit, isAway, newName, saveEdits, verdictsOf } from '../api/edits'
import { explain } from '../api/explain'
import { useNotices } from '../stores/notices'
import { counted } from '../text/format'

/** An edit that waits to be saved together with others, or for the service to come back. */
export interface Waiting {
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
    return JSON.parse(localStorage.getItem(key) ?? '[]') as Waiting[]
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
  const names = new Map<string, string>() // of requests, by what they ask for
  let timer = 0

  watch(
    waiting,
    (all) => {
      if (all.length === 0) localStorage.removeItem(key)
      else localStorage.setItem(key, JSON.stringify(all))
    },
    { deep: true },
  )

  function add(w: Waiting): void {
    // Another edit of the same item takes the place of the one before.
    const same = (o: Waiting) => o.collection === w.collection && o.edit.id !== undefined && o.edit.id === w.edit.id
    waiting.value = [...waiting.value.filter((o) => !same(o)), w]
    if (w.sends) again()
  }
  const drop = (w: Waiting) => (waiting.value = waiting.value.filter((o) => o !== w))
  const clear = () => (waiting.value = [])

  /** Saves edits, those of a collection as one. It returns how many are saved. */
  async function save(which: (w: Waiting) => boolean): Promise<void> {
    if (busy.value) return
    busy.value = true
    let saved = 0
    for (const collection of new Set(waiting.value.filter(which).map((w) => w.collection))) {
      const mine = waiting.value.filter((w) => which(w) && w.collection === collection)
      const edits = mine.map((w) => w.edit)
      const asked = JSON.stringify([collection, edits])
      const name = names.get(asked) ?? newName()
      names.set(asked, name)
      try {
        await saveEdits(collection, edits, name)
        waiting.value = waiting.value.filter((w) => !mine.includes(w))
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
    mine.forEach((w, i) => {
      const verdict = verdicts.find((v) => v.edit === i)
      w.sends = false
      delete w.problem
      if (!verdict) w.problem = explain(error)
      else if (verdict.status !== couldBeDone) w.problem = verdict.detail
    })
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
