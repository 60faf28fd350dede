import { computed, onUnmounted, ref, type Ref, shallowRef, watch } from 'vue'
import { explain } from '../api/explain'
import { type FileOptions, type FileSide, inspectFile, type Inspection, type Setting } from '../api/imports'
import { listed } from '../api/service'
import { fixes as allFixes, roleParameters } from './words'

/**
 * Looks at a file, anew whenever it is to be read in another way. into is the collection that it is meant for, "" for a
 * new one; paused while what was found is being imported.
 */
export function useInspection(into: Readonly<Ref<string>>, paused: () => boolean) {
  const file = shallowRef<File | null>(null)
  const found = shallowRef<Inspection | null>(null)
  const problem = ref<string | null>(null)
  const busy = ref(false)
  const roles = ref<Record<string, string>>({}) // of columns, if they are not as found
  const types = ref<Record<string, string>>({}) // likewise
  const fixes = ref<string[]>([])
  const noValue = ref<string[]>([]) // words that stand for no value, as they stand in a list
  const within = ref('') // which of two parts of the file that mirror each other is right
  const sides = shallowRef<readonly FileSide[]>([]) // of such a file
  const nameProperty = ref('')
  const categoryProperty = ref('')
  let looking = new AbortController()
  let asked = '' // what was looked at last, and how
  let guessed = false // name and category have been proposed for this file

  const options = computed<FileOptions>(() => {
    const o: FileOptions = {}
    for (const [column, role] of Object.entries(roles.value))
      if (role in roleParameters) o[roleParameters[role as keyof typeof roleParameters]] = column
    const typed = Object.entries(types.value).map(([column, type]) => `${listed(column)}:${type}`)
    if (typed.length > 0) o.type = typed.join(',')
    const swap = within.value && !fixes.value.includes('swap_doubtful') ? ['swap_doubtful'] : []
    const mend = [...fixes.value, ...swap]
    if (mend.length > 0) o.fix = mend.join(',')
    if (noValue.value.length > 0) o.no_value = noValue.value.join(',')
    if (within.value) o.within = within.value
    return o
  })

  /** The fixes that the rows give reason to offer. */
  const offered = computed(() => {
    const { errors = [], doubts = [] } = found.value?.report ?? {}
    const named = [...errors, ...doubts].flatMap((row) => row.fix ?? [])
    return Object.keys(allFixes).filter((fix) => named.includes(fix) || (fixes.value.includes(fix) && !within.value))
  })

  const isTable = computed(() => found.value?.format === 'csv')
  /** Of a table, that nobody has said or recognised where its rows are. */
  const unplaced = computed(
    () => isTable.value && found.value?.report.stopped !== undefined && found.value.report.rows === 0,
  )
  const properties = computed(() => found.value?.columns.filter((c) => !c.role).map((c) => c.name) ?? [])

  /** Takes another file, or none. */
  function take(next: File | null): void {
    looking.abort()
    file.value = next
    found.value = problem.value = null
    roles.value = {}
    types.value = {}
    fixes.value = []
    noValue.value = []
    within.value = ''
    sides.value = []
    asked = ''
    guessed = false
    busy.value = false
    if (next) void look()
  }

  /** Looks at the file, unless that has been asked already. */
  async function look(): Promise<void> {
    if (!file.value) return
    const category = guessed ? categoryProperty.value : null
    const question = JSON.stringify([into.value, options.value, guessed && category])
    if (question === asked) return // it is on its way, or here
    asked = question
    looking.abort()
    const mine = (looking = new AbortController())
    busy.value = true
    problem.value = null
    try {
      const answer = await inspectFile(file.value, into.value, options.value, category, mine.signal)
      if (!guessed) {
        guessed = true
        nameProperty.value = answer.name_property
        categoryProperty.value = answer.category_property
        asked = JSON.stringify([into.value, options.value, categoryProperty.value])
      }
      // The question stays while it is being answered.
      const mirrored = answer.report.notes.find((n) => n.kind === 'mirrored')?.sides
      sides.value = mirrored ?? (within.value ? sides.value : [])
      found.value = answer
    } catch (e) {
      if (mine.signal.aborted) return
      asked = ''
      problem.value = explain(e)
    }
    if (!mine.signal.aborted) busy.value = false
  }
  watch([options, into], () => {
    if (!paused()) void look()
  })
  onUnmounted(() => looking.abort())

  function setRole(column: string, role: string): void {
    const others = Object.entries(roles.value).filter(([c, r]) => c !== column && r !== role)
    roles.value = { ...Object.fromEntries(others), [column]: role }
  }

  function setType(column: string, type: string): void {
    types.value = { ...types.value, [column]: type }
  }

  /** Sets what a note about the file offers. */
  function set(settings: readonly Setting[]): void {
    for (const { option, value } of settings) {
      if (option === 'no_value') noValue.value = [...new Set([...noValue.value, value])]
      if (option !== 'type') continue
      const colon = value.lastIndexOf(':')
      setType(value.slice(0, colon).replace(/\\([\\,])/g, '$1'), value.slice(colon + 1))
    }
  }

  return {
    file,
    found,
    problem,
    busy,
    types,
    fixes,
    noValue,
    within,
    sides,
    nameProperty,
    categoryProperty,
    options,
    offered,
    isTable,
    unplaced,
    properties,
    take,
    look,
    setRole,
    setType,
    set,
  }
}
