import { defineStore } from 'pinia'
import { computed, ref, shallowRef } from 'vue'
import type { Collection } from '../api/collections'
import { explain } from '../api/explain'
import { unknownUser } from '../api/service'
import { fetchSession, type Session, signIn, signOut } from '../api/session'

const lookEvery = 30_000 // ms between looks whether the user is still who it was

/** Who the user is, and what that one may. What is hidden by it the service refuses as well. */
export const useSession = defineStore('session', () => {
  const session = shallowRef<Session | null>(null) // null until first known
  const asking = ref(false) // who one is is being shown, or asked for
  const problem = ref<string | null>(null) // why signing in has failed on the way here

  const guest = computed(() => session.value?.kind === 'guest')
  const owner = computed(() => session.value?.role === 'owner')
  const edits = computed(() => owner.value || session.value?.role === 'editor')
  const reads = computed(() => edits.value || session.value?.role === 'contributor' || session.value?.role === 'reader')
  /** Whether one may change items of a collection, or suggest that. */
  const works = (c: Collection) =>
    edits.value || session.value?.role === 'contributor' || (guest.value && c.guests === 'suggest')
  const ownsAll = computed(() => owner.value && !session.value?.limits.collections)

  async function load(): Promise<void> {
    session.value = await fetchSession().catch(() => session.value)
  }

  /** Takes the code that the address signs in with, or what went wrong elsewhere, out of the address. */
  async function begin(): Promise<void> {
    const [, what, value] = /^#(share|sign-in|sign-in-failed)=(.*)$/.exec(window.location.hash) ?? []
    if (what) {
      const { pathname, search } = window.location
      window.history.replaceState(window.history.state, '', pathname + search)
    }
    await load()
    // Somebody who has signed in stays who it is: the address may be of anyone.
    if (guest.value && (what === 'sign-in' || what === 'share') && value) {
      await signIn(what === 'share' ? { key: value } : { code: value }).catch(
        (e: unknown) => (problem.value = explain(e)),
      )
      await load()
    } else if (guest.value && what && value) {
      problem.value = `You are not signed in: ${decodeURIComponent(value.replaceAll('+', ' '))}.`
    }
    asking.value = problem.value !== null && guest.value
    window.addEventListener(unknownUser, () => void load())
    window.setInterval(() => {
      if (!document.hidden) void load()
    }, lookEvery)
  }

  /** Signs in by a key. All pages begin anew, with what the key may see. */
  async function enter(key: string): Promise<void> {
    await signIn({ key })
    window.location.reload()
  }

  async function leave(everywhere: boolean): Promise<void> {
    await signOut(everywhere)
    window.location.reload()
  }

  return { session, asking, problem, guest, owner, edits, reads, works, ownsAll, begin, enter, leave }
})
