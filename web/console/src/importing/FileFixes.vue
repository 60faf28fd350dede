<script setup lang="ts">
import type { Inspection } from '../api/imports'
import { counted, numberText } from '../text/format'
import { fixes as fixNames } from './words'

// The rows that cannot be used or may be in the wrong place, and what would mend them.
const props = defineProps<{ report: Inspection['report']; offered: readonly string[]; disabled: boolean }>()
const chosen = defineModel<string[]>({ required: true })

const rows = (n: number) => counted(n, 'row', 'rows')

/** What a fix would do. */
function effect(fix: string): string {
  const note = props.report.notes.find((n) => n.kind === 'fix' && n.about === fix)
  if (!note?.count || !note.of) return ''
  const far = note.alone ? `; ${numberText(note.alone)} of them would then lie where nothing else of the file is` : ''
  const many =
    note.count > 1 && note.count * 50 > note.of ? '. That is more than a small share: look at them first' : ''
  return `${numberText(note.count)} of ${rows(note.of)}${far}${many}`
}
</script>

<template>
  <div v-if="report.rejected + report.doubtful + report.mended > 0 || offered.length > 0" class="doubts">
    <p v-if="report.rejected > 0">{{ rows(report.rejected) }} cannot be used:</p>
    <ul v-if="report.errors.length > 0">
      <li v-for="e in report.errors.slice(0, 4)" :key="e.row">row {{ e.row }}: {{ e.reason }}</li>
    </ul>
    <p v-if="report.doubtful > 0">{{ rows(report.doubtful) }} may be in the wrong place:</p>
    <ul v-if="report.doubts.length > 0">
      <li v-for="d in report.doubts.slice(0, 4)" :key="d.row">row {{ d.row }}: {{ d.reason }}</li>
    </ul>
    <p v-if="report.mended > 0" role="status">{{ rows(report.mended) }} will be mended.</p>
    <label v-for="f in offered" :key="f" class="fix">
      <input v-model="chosen" type="checkbox" :value="f" :disabled="disabled" /> {{ fixNames[f] }}
      <span v-if="effect(f)" class="would">{{ effect(f) }}</span>
    </label>
  </div>
</template>

<style scoped>
.doubts {
  margin-top: 0.6rem;
  font-size: 0.88rem;
}
ul {
  margin: 0.1rem 0 0.4rem;
  padding-inline-start: 1.2rem;
}
.fix {
  display: block;
  padding: 0.15rem 0;
}
.would {
  display: block;
  padding-inline-start: 1.4rem;
  color: var(--soft);
}
</style>
