<script setup lang="ts">
import type { StyleText } from '../api/client'
import { having, type Property, textOf } from './properties'

// Properties that are told, in their order.
type Field = NonNullable<StyleText['tooltip']>[number]
const props = defineProps<{ fields: readonly Field[]; properties: Property[]; what: string; most: number; formats?: boolean }>()
const emit = defineEmits<{ change: [next: Field[]] }>()

const formatNames = ['text', 'number', 'date', 'link', 'phone', 'lines', 'html'] as const

function set(i: number, member: 'label' | 'format' | 'unit', value: string): void {
  emit('change', props.fields.map((f, j) => (j === i ? having<Field, typeof member>(f, member, value as never) : f)))
}
function lift(i: number): void {
  const next = [...props.fields]
  next.splice(i - 1, 0, ...next.splice(i, 1))
  emit('change', next)
}
function add(e: Event): void {
  const select = e.target as HTMLSelectElement
  if (select.value) emit('change', [...props.fields, { property: select.value }])
  select.value = ''
}
</script>

<template>
  <table>
    <tbody>
      <tr v-for="(f, i) in fields" :key="f.property + i">
        <th scope="row">{{ f.property }}</th>
        <td><input type="text" :value="f.label ?? ''" placeholder="label" maxlength="200" :aria-label="`Label of ${f.property} in the ${what}`" @change="set(i, 'label', textOf($event))" /></td>
        <td v-if="formats">
          <select :value="f.format ?? ''" :aria-label="`Format of ${f.property}`" @change="set(i, 'format', textOf($event))">
            <option value="">found</option>
            <option v-for="n in formatNames" :key="n">{{ n }}</option>
          </select>
        </td>
        <td><input type="text" class="short" :value="f.unit ?? ''" placeholder="unit" maxlength="200" :aria-label="`Unit of ${f.property} in the ${what}`" @change="set(i, 'unit', textOf($event))" /></td>
        <td class="tools">
          <button type="button" :disabled="i === 0" :aria-label="`${f.property} before the one above`" title="Up" @click="lift(i)"><i class="pi pi-arrow-up" aria-hidden="true" /></button>
          <button type="button" :aria-label="`Leave ${f.property} out of the ${what}`" title="Remove" @click="emit('change', fields.filter((_, j) => j !== i))"><i class="pi pi-times" aria-hidden="true" /></button>
        </td>
      </tr>
    </tbody>
  </table>
  <select v-if="fields.length < most" class="add" :aria-label="`Add a property to the ${what}`" @change="add">
    <option value="">Add a property …</option>
    <option v-for="p in properties" :key="p.name">{{ p.name }}</option>
  </select>
</template>
