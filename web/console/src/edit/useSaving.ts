import {
  type Conflict,
  conflictOf,
  type Edit,
  isAway,
  newName,
  propertyAt,
  saveEdits,
  type StoredItem,
  undoChange,
} from '../api/edits'
import { explain } from '../api/explain'
import { misfitsOf } from '../api/schemas'
import { suggest } from '../api/suggestions'
import { useNotices } from '../stores/notices'
import { useTray } from './tray'

/** What an edit has come to. */
export type Outcome =
  | { saved: StoredItem | null; change: number }
  | { waits: true } // until the service is back
  | { suggested: string } // the address of the page that follows it, '' if there is none
  | { conflict: Conflict }
  | { problem: string; misfits: ReadonlyMap<string, string> } // by property

/** Saves one edit, or suggests it. */
export function useSaving() {
  const notices = useNotices()
  const tray = useTray()

  async function save(collection: string, edit: Edit, called: string): Promise<Outcome> {
    const request = newName()
    try {
      const done = await saveEdits(collection, [edit], request)
      const [first] = done.edits
      return { saved: first?.item ?? null, change: first?.change ?? done.change }
    } catch (e) {
      if (isAway(e)) {
        tray.add({ request, name: called, collection, edit, sends: true })
        return { waits: true }
      }
      const conflict = conflictOf(e)
      return conflict ? { conflict } : failed(e)
    }
  }

  async function propose(collection: string, edit: Edit, note: string): Promise<Outcome> {
    try {
      const made = await suggest(collection, edit, note)
      return { suggested: made.links.find((l) => l.rel === 'alternate')?.href ?? '' }
    } catch (e) {
      return failed(e)
    }
  }

  /** Tells that a change is made, and offers to take it back, and then to make it again. */
  function tellDone(text: string, change: number, together = false): void {
    const act = async () => {
      try {
        tellDone('Taken back.', await undoChange(change, false, together), together)
      } catch (e) {
        notices.failed(`It is not taken back. ${explain(e)}`)
      }
    }
    notices.done(text, { label: text === 'Taken back.' ? 'Make it again' : 'Take back', act: () => void act() })
  }
  return { save, propose, tellDone }
}

function failed(e: unknown): Outcome {
  const misfits = new Map<string, string>()
  for (const m of misfitsOf(e)) {
    misfits.set(propertyAt(m.member), m.want ? `This ${m.reason}; it has to be ${m.want}.` : `This ${m.reason}.`)
  }
  return { problem: explain(e), misfits }
}
