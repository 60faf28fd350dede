<script setup lang="ts">
import { computed, ref } from 'vue'
import type { StyleDocument } from '../api/styles'
import Choice from '../parts/Choice.vue'
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

const added = ref('')
const formatChoices = [
  { value: '', label: 'found' },
  ...formatNames.map((n) => ({ value: n as string, label: n as string })),
]
const propertyChoices = computed(() => [
  ...props.properties.map((p) => ({ value: p.name, label: p.name })),
  ...(props.formats && props.properties.length > 1 ? [{ value: several, label: 'several in one line' }] : []),
])

function add(chosen: string): void {
  if (chosen === several) {
    const firsts = props.properties.slice(0, 2).map((p) => `{${p.name}}`)
    emit('change', [...props.fields, { template: firsts.join(', ') }])
  } else if (chosen) emit('change', [...props.fields, { property: chosen }])
  added.value = '' // so that the same can be chosen again
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
          <Choice
            :model-value="f.format ?? ''"
            :options="formatChoices"
            :label="`Format of ${nameOf(f)}`"
            @update:model-value="(format) => set(i, 'format', format)"
          />
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
  <Choice
    v-if="fields.length < most"
    v-model="added"
    class="add"
    :options="propertyChoices"
    placeholder="Add a property …"
    :label="`Add a property to the ${what}`"
    @update:model-value="add"
  />
</template>
