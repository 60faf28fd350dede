import { computed, onMounted, ref, type Ref, shallowRef, watch } from 'vue'
import type { Collection } from '../api/collections'
import { explain, ServiceError } from '../api/explain'
import { fetchLegend, fetchTaggedStyle, type Legend, resetStyle, saveStyle, type StyleDocument } from '../api/styles'
import { needIcons } from '../stores/styles'

const changedMeanwhile = 412

/** A style that is being made: with undo, what the service says to it, and what somebody else saved meanwhile. */
export function useStyleDraft(collection: Readonly<Ref<Collection>>, onSaved: () => void) {
  const draft = shallowRef<StyleDocument | null>(null)
  const past = shallowRef<StyleDocument[]>([]) // for undo, the newest last
  const saved = ref('') // as the service has it, in JSON
  const overtaken = shallowRef<(() => void) | null>(null) // saves nevertheless, after somebody else was there first
  const problem = ref<string | null>(null)
  const refused = ref<string | null>(null) // what the service says against the draft
  const warnings = shallowRef<readonly { field: string; reason: string }[]>([]) // what of the saved style does nothing
  const legend = shallowRef<Legend | null>(null) // of the draft
  let tag = '*' // of the style as the service has it

  const changed = computed(() => draft.value !== null && JSON.stringify(draft.value) !== saved.value)

  async function load(): Promise<void> {
    try {
      const found = await fetchTaggedStyle(collection.value.id)
      const { proposed: _, warnings: idle, ...style } = found.style
      await needIcons(style)
      for (const { category } of collection.value.categories) {
        if (category && !style.categories?.some((c) => c.value === category))
          style.categories = [...(style.categories ?? []), { value: category }]
      }
      tag = found.tag
      warnings.value = idle
      saved.value = JSON.stringify(style)
      draft.value = style
      problem.value = overtaken.value = null
    } catch (e) {
      problem.value = explain(e)
    }
  }
  onMounted(load)

  // The legend of the draft also shows whether the service would take it.
  watch(draft, async (tried) => {
    if (!tried) return
    try {
      const found = await fetchLegend(collection.value.id, tried)
      if (tried !== draft.value) return
      legend.value = found
      refused.value = null
    } catch (e) {
      if (tried === draft.value) refused.value = explain(e)
    }
  })

  function remember(): void {
    if (draft.value) past.value = [...past.value, draft.value]
  }
  function change(next: StyleDocument): void {
    remember()
    draft.value = next
  }
  function undo(): void {
    const last = past.value.at(-1)
    if (!last) return
    past.value = past.value.slice(0, -1)
    draft.value = last
  }

  async function keep(style: StyleDocument | null, over = tag): Promise<void> {
    try {
      if (style) await saveStyle(collection.value.id, style, over)
      else await resetStyle(collection.value.id, over)
      past.value = []
      await load()
      onSaved()
    } catch (e) {
      problem.value = explain(e)
      const conflict = e instanceof ServiceError && e.status === changedMeanwhile
      overtaken.value = conflict ? () => void keep(style, '*') : null
    }
  }
  const save = () => keep(draft.value ?? {})
  const reset = () => keep(null)

  /** Goes on from what somebody else has saved; undo brings back what was here. */
  async function takeTheirs(): Promise<void> {
    remember()
    await load()
  }

  return { draft, past, overtaken, problem, refused, warnings, legend, changed, change, undo, save, reset, takeTheirs }
}
