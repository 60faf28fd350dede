import { defineStore } from 'pinia'
import { computed, ref, shallowRef } from 'vue'
import {
  dismissImport,
  fetchImport,
  fetchImports,
  type FileOptions,
  type Import,
  type NewCollection,
  sendImport,
} from '../api/imports'

/** A file on its way to the service. */
export interface Sending {
  key: number
  name: string
  into: string
  share: number // that has been sent
  stop(): void
}

export const ended = (i: Import) => i.status === 'successful' || i.status === 'failed' || i.status === 'dismissed'

/** How far an import is: a share of sending, reading or putting in. */
export interface Stage {
  name: 'Sending' | 'Reading' | 'Putting it in'
  share: number
}

const every = 400 // ms between looks at an import that is waited for

/**
 * The imports of the service, and the files on their way to it. They are kept here and not by a page, so that they go
 * on when the page is left.
 */
export const useImports = defineStore('imports', () => {
  const sending = shallowRef<readonly Sending[]>([])
  const imports = ref<Import[]>([])
  let keys = 0
  const busy = computed(() => imports.value.some((i) => !ended(i)))

  /** Looks at the newest imports anew. If the service does not answer, what was known stays. */
  async function refresh(): Promise<void> {
    imports.value = await fetchImports(8).catch(() => imports.value)
  }

  async function dismiss(id: string): Promise<void> {
    await dismissImport(id).catch(() => {}) // it is gone already
    await refresh()
  }

  /** Calls off an import whose sending was broken off: the service may have had all of the file just before. */
  async function callOff(mine: (i: Import) => boolean): Promise<void> {
    for (let looks = 0; looks < 3; looks++) {
      const found = (await fetchImports(8).catch(() => [])).filter(mine)
      if (found.length > 0 && found.every(ended)) return
      for (const i of found) if (!ended(i)) await dismissImport(i.id).catch(() => {}) // it is gone already
      await new Promise((resolve) => setTimeout(resolve, every))
    }
  }

  /**
   * Imports a file and waits until that is over; make is the collection that is made with it, or null where it is
   * there. A stop leaves nothing of it, while it is being sent or later.
   */
  async function run(
    file: File,
    into: string,
    make: NewCollection | null,
    options: FileOptions,
    tell: (stage: Stage) => void,
    signal: AbortSignal,
  ): Promise<Import> {
    const key = ++keys
    const broken = new AbortController()
    const stop = () => broken.abort()
    signal.throwIfAborted() // it may have been while nobody listened
    signal.addEventListener('abort', stop)
    const update = (share: number) => {
      const mine: Sending = { key, name: file.name, into, share, stop }
      sending.value = [...sending.value.filter((s) => s.key !== key), mine]
      tell({ name: 'Sending', share })
    }
    update(0)
    const known = new Set((await fetchImports(8).catch(() => imports.value)).map((i) => i.id))
    let now: Import
    try {
      broken.signal.throwIfAborted()
      now = await sendImport(file, into, make, options, update, broken.signal)
    } catch (e) {
      if (broken.signal.aborted)
        await callOff((i) => !known.has(i.id) && i.file_name === file.name && i.collection === into)
      throw e
    } finally {
      sending.value = sending.value.filter((s) => s.key !== key)
    }
    const { id } = now
    const dismiss = () => void dismissImport(id).catch(() => {}) // what comes of it is seen below
    if (broken.signal.aborted) dismiss()
    broken.signal.addEventListener('abort', dismiss)
    while (!ended(now)) {
      const share = now.bytes_total ? now.bytes_read / now.bytes_total : 0
      tell(share < 1 ? { name: 'Reading', share } : { name: 'Putting it in', share })
      await new Promise((resolve) => setTimeout(resolve, every))
      now = await fetchImport(id).catch((e: unknown) => {
        if (e instanceof TypeError) return now // the service does not answer for a while; the import may go on
        throw e
      })
    }
    broken.signal.removeEventListener('abort', dismiss) // what is over should not be forgotten
    return now
  }

  return { sending, imports, busy, refresh, dismiss, run }
})
