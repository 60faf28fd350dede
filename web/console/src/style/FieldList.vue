<script setup lang="ts">
import type { StyleDocument } from '../api/styles'
import { having, lifted, type Property, textOf } from './properties'
import RowTools from './RowTools.vue'

// Properties that are told, in their order.
type Field = NonNullable<StyleDocument['tooltip']>[number]
const props = defineProps<{
  fields: readonly Field[]
  properties: Property[]
  what: string
  most: number
  formats?: boolean
}>()
const emit = defineEmits<{ change: [next: Field[]] }>()

const formatNames = ['text', 'number', 'date', 'link', 'phone', 'lines', 'html'] as const

const several = '\u0000several' // no property has such a name
const nameOf = (f: Field) => f.property ?? f.template ?? ''

function set(i: number, member: 'label' | 'format' | 'unit' | 'template', value: string): void {
  emit(
    'change',
    props.fields.map((f, j) => (j === i ? having<Field, typeof member>(f, member, value as never) : f)),
  )
}
function add(e: Event): void {
  const select = e.target as HTMLSelectElement
  if (select.value === several)
    emit('change', [
      ...props.fields,
      {
        template: props.properties
          .slice(0, 2)
          .map((p) => `{${p.name}}`)
          .join(', '),
      },
    ])
  else if (select.value) emit('change', [...props.fields, { property: select.value }])
  select.value = ''
}
</script>

<template>
  <table>
    <tbody>
      <tr v-for="(f, i) in fields" :key="(f.property ?? '') + i">
        <th scope="row">
          <input
            v-if="f.template !== undefined"
            type="text"
            :value="f.template"
            maxlength="200"
            aria-label="Several properties in one line, each in braces"
            @change="set(i, 'template', textOf($event))"
          />
          <template v-else>{{ f.property }}</template>
        </th>
        <td
          ><input
            type="text"
            :value="f.label ?? ''"
            placeholder="label"
            maxlength="200"
            :aria-label="`Label of ${nameOf(f)} in the ${what}`"
            @change="set(i, 'label', textOf($event))"
        /></td>
        <td v-if="formats">
          <select
            :value="f.format ?? ''"
            :aria-label="`Format of ${nameOf(f)}`"
            @change="set(i, 'format', textOf($event))"
          >
            <option value="">found</option>
            <option v-for="n in formatNames" :key="n">{{ n }}</option>
          </select>
        </td>
        <td
          ><input
            type="text"
            class="short"
            :value="f.unit ?? ''"
            placeholder="unit"
            maxlength="200"
            :aria-label="`Unit of ${nameOf(f)} in the ${what}`"
            @change="set(i, 'unit', textOf($event))"
        /></td>
        <RowTools
          :first="i === 0"
          :up="`${nameOf(f)} before the one above`"
          :remove="`Leave ${nameOf(f)} out of the ${what}`"
          @lift="emit('change', lifted(fields, i))"
          @remove="
            emit(
              'change',
              fields.filter((_, j) => j !== i),
            )
          "
        />
      </tr>
    </tbody>
  </table>
  <select v-if="fields.length < most" class="add" :aria-label="`Add a property to the ${what}`" @change="add">
    <option value="">Add a property …</option>
    <option v-for="p in properties" :key="p.name">{{ p.name }}</option>
    <option v-if="formats && properties.length > 1" :value="several">several in one line</option>
  </select>
</template>
