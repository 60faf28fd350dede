<script setup lang="ts">
import { computed } from 'vue'
import type { JsonSchema } from '../api/schemas'
import Icon from '../parts/Icon.vue'
import { asKind, choicesOf, kindOf, kinds, type Of, type Row } from './rows'

// What one property has to be.
const props = defineProps<{ row: Row; first: boolean }>()
const emit = defineEmits<{ change: [row: Row]; lift: []; remove: [] }>()

const kind = computed(() => kindOf(props.row.part))
const value = (e: Event) => (e.target as HTMLInputElement).value

/** Changes one keyword; one without a value goes. */
function say(keyword: keyof JsonSchema, what: unknown): void {
  const { [keyword]: _, ...rest } = props.row.part
  const part = what === undefined || what === '' ? rest : { ...rest, [keyword]: what }
  emit('change', { ...props.row, part })
}
function sayNumber(keyword: keyof JsonSchema, e: Event): void {
  const text = value(e).trim().replace(',', '.')
  const n = Number(text)
  if (text === '' || Number.isFinite(n)) say(keyword, text === '' ? undefined : n)
}
const choices = computed(() => (props.row.part.enum ?? []).map(String).join('\n'))
</script>

<template>
  <tr>
    <th scope="row" dir="auto">{{ row.name }}</th>
    <td
      ><input
        class="title"
        :value="row.part.title ?? ''"
        :placeholder="row.name"
        :aria-label="`What people call ${row.name}`"
        @change="say('title', value($event))"
    /></td>
    <td>
      <select
        :value="kind"
        :aria-label="`What ${row.name} is`"
        @change="emit('change', { ...row, part: asKind(row.part, value($event) as Of) })"
      >
        <template v-for="(label, k) in kinds" :key="k">
          <option v-if="k !== 'other' || kind === 'other'" :value="k">{{ label }}</option>
        </template>
      </select>
    </td>
    <td
      ><input
        type="checkbox"
        :checked="row.required"
        :aria-label="`${row.name} is needed`"
        @change="emit('change', { ...row, required: ($event.target as HTMLInputElement).checked })"
    /></td>
    <td class="within">
      <template v-if="kind === 'number' || kind === 'whole'">
        <label>from <input :value="row.part.minimum ?? ''" @change="sayNumber('minimum', $event)" /></label>
        <label>to <input :value="row.part.maximum ?? ''" @change="sayNumber('maximum', $event)" /></label>
        <label
          >in
          <input :value="row.part['x-ogc-unit'] ?? ''" placeholder="unit" @change="say('x-ogc-unit', value($event))"
        /></label>
      </template>
      <template v-else-if="kind === 'text'">
        <label
          >at most
          <input :value="row.part.maxLength ?? ''" @change="sayNumber('maxLength', $event)" /> characters</label
        >
      </template>
      <textarea
        v-else-if="kind === 'choice'"
        :value="choices"
        rows="3"
        placeholder="one a line"
        :aria-label="`What ${row.name} can be`"
        @change="say('enum', choicesOf(value($event)))"
      />
    </td>
    <td class="tools">
      <button type="button" :disabled="first" :aria-label="`${row.name} up`" title="Up" @click="emit('lift')"
        ><Icon name="arrow-up"
      /></button>
      <button type="button" :aria-label="`Take out ${row.name}`" title="Remove" @click="emit('remove')"
        ><Icon name="x"
      /></button>
    </td>
  </tr>
</template>

<style scoped>
th,
td {
  padding: 0.2rem 0.6rem 0.2rem 0;
  text-align: start;
  vertical-align: middle;
}
th {
  font-weight: 400;
  overflow-wrap: anywhere;
}
input:not([type='checkbox']),
select,
textarea {
  padding: 0.25rem 0.4rem;
  border: 1px solid var(--rule);
  border-radius: 6px;
  background: var(--card);
  color: inherit;
  font: inherit;
}
.within input {
  width: 4.5rem;
}
.within label {
  margin-inline-end: 0.6rem;
  white-space: nowrap;
}
.title {
  width: 9rem;
}
.tools {
  white-space: nowrap;
}
.tools button {
  padding: 0.2rem;
  border: 0;
  border-radius: 6px;
  background: none;
  color: inherit;
  cursor: pointer;
}
.tools button:disabled {
  opacity: 0.3;
}
</style>
