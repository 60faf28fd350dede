<script setup lang="ts">
import Button from 'primevue/button'
import { computed } from 'vue'
import type { FileNote, Setting } from '../api/imports'

// What to know of a file as a whole, with what can be set to have it otherwise.
const props = defineProps<{ notes: readonly FileNote[]; settable: boolean }>()
const emit = defineEmits<{ set: [settings: readonly Setting[]] }>()

// Fixes and mirrored sides have their own places on the page.
const shown = computed(() => props.notes.filter((n) => n.kind !== 'mirrored' && n.kind !== 'fix'))

/** What a button sets, each with its words. Of a type only one of several can be. */
function choices(n: FileNote): { label: string; settings: Setting[] }[] {
  const set = n.set ?? []
  const types = set.filter((s) => s.option === 'type')
  const words = set.filter((s) => s.option === 'no_value')
  const name = (value: string) =>
    ({
      decimal_comma: 'numbers with a decimal comma',
      decimal_point: 'numbers with a decimal point',
      number: 'numbers',
    })[value] ?? value
  const out = types.map((t) => ({
    label: `Read as ${name(t.value.slice(t.value.lastIndexOf(':') + 1))}`,
    settings: [t, ...words],
  }))
  if (types.length === 0 && words.length > 0)
    out.push({ label: `Take ${words.map((w) => `“${w.value}”`).join(', ')} as no value`, settings: words })
  return out
}
</script>

<template>
  <ul v-if="shown.length > 0" class="notes" aria-label="What to know of the file">
    <li v-for="(n, i) in shown" :key="i">
      {{ n.text }}
      <template v-if="settable">
        <Button
          v-for="c in choices(n)"
          :key="c.label"
          :label="c.label"
          size="small"
          severity="secondary"
          @click="emit('set', c.settings)"
        />
      </template>
    </li>
  </ul>
</template>

<style scoped>
.notes {
  margin: 0.6rem 0 0;
  padding-inline-start: 1.1rem;
  font-size: 0.88rem;
}
.notes li {
  padding: 0.15rem 0;
  overflow-wrap: anywhere;
}
</style>
