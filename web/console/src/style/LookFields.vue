<script setup lang="ts">
import type { Looks } from '@idlebeacon/map'
import { computed } from 'vue'
import type { Collection } from '../api/collections'
import type { StyleDocument } from '../api/styles'
import { numberText } from '../text/format'
import LookCells from './LookCells.vue'
import { having, lifted, textOf } from './properties'
import RowTools from './RowTools.vue'

// The looks of categories, and of what meets a condition.
const props = defineProps<{ draft: StyleDocument; looks: Looks; collection: Collection }>()
const emit = defineEmits<{ change: [next: StyleDocument] }>()

type CategoryLook = NonNullable<StyleDocument['categories']>[number]
type RuleLook = NonNullable<StyleDocument['rules']>[number]

const counts = computed(() => new Map(props.collection.categories.map((c) => [c.category, c.count])))
const categories = computed(() => props.draft.categories ?? [])
const rules = computed(() => props.draft.rules ?? [])
const base = computed(() => props.draft.default?.colour ?? '#5f6b76')

const setDefault = (member: 'icon' | 'colour', value: string) =>
  emit('change', { ...props.draft, default: having(props.draft.default, member, value) })
function setCategory(i: number, member: 'icon' | 'colour' | 'label', value: string): void {
  emit('change', {
    ...props.draft,
    categories: categories.value.map((c, j) => (j === i ? having<CategoryLook, typeof member>(c, member, value) : c)),
  })
}
function setRules(next: RuleLook[]): void {
  emit('change', next.length > 0 ? { ...props.draft, rules: next } : having(props.draft, 'rules', undefined))
}
function setRule(i: number, member: 'icon' | 'colour' | 'label', value: string): void {
  setRules(rules.value.map((r, j) => (j === i ? having<RuleLook, typeof member>(r, member, value) : r)))
}
const setWhen = (i: number, when: string) => setRules(rules.value.map((r, j) => (j === i ? { ...r, when } : r)))
const addRule = () =>
  setRules([
    ...rules.value,
    {
      when: props.collection.name_property ? `"${props.collection.name_property}" IS NULL` : 'note IS NULL',
      label: 'Different',
      icon: 'star',
      colour: '#c24a00',
    },
  ])
</script>

<template>
  <table>
    <caption> Categories </caption>
    <tbody>
      <tr v-for="(c, i) in categories" :key="c.value">
        <LookCells
          :icon="c.icon"
          :colour="c.colour ?? looks.of(c.value).colour"
          :of="c.value || 'what has no category'"
          none="as the rest"
          @icon="setCategory(i, 'icon', $event)"
          @colour="setCategory(i, 'colour', $event)"
        />
        <th scope="row"
          >{{ c.value || 'without category' }} <span class="count">{{ numberText(counts.get(c.value) ?? 0) }}</span></th
        >
        <td
          ><input
            type="text"
            :value="c.label ?? ''"
            placeholder="label"
            maxlength="200"
            :aria-label="`Label of ${c.value}`"
            @change="setCategory(i, 'label', textOf($event))"
        /></td>
      </tr>
      <tr>
        <LookCells
          :icon="draft.default?.icon"
          :colour="base"
          of="the rest"
          @icon="setDefault('icon', $event)"
          @colour="setDefault('colour', $event)"
        />
        <th scope="row" colspan="2">the rest</th>
      </tr>
    </tbody>
  </table>
  <table v-if="rules.length > 0">
    <caption> Rules: the first whose condition a feature meets is used </caption>
    <tbody>
      <tr v-for="(r, i) in rules" :key="i">
        <LookCells
          :icon="r.icon"
          :colour="r.colour ?? base"
          :of="`rule ${i + 1}`"
          none="as the rest"
          @icon="setRule(i, 'icon', $event)"
          @colour="setRule(i, 'colour', $event)"
        />
        <td
          ><input
            type="text"
            class="wide"
            :value="r.when"
            placeholder="berths > 9"
            spellcheck="false"
            :aria-label="`Condition of rule ${i + 1}`"
            @change="setWhen(i, textOf($event))"
        /></td>
        <td
          ><input
            type="text"
            :value="r.label ?? ''"
            placeholder="label"
            maxlength="200"
            :aria-label="`Label of rule ${i + 1}`"
            @change="setRule(i, 'label', textOf($event))"
        /></td>
        <RowTools
          :first="i === 0"
          :up="`Rule ${i + 1} before the one above`"
          :remove="`Remove rule ${i + 1}`"
          @lift="setRules(lifted(rules, i))"
          @remove="setRules(rules.filter((_, j) => j !== i))"
        />
      </tr>
    </tbody>
  </table>
  <button type="button" class="add" @click="addRule">Add a rule</button>
</template>
