<script setup lang="ts">
import { computed } from 'vue'
import type { StyleDocument } from '../api/styles'
import Choice from '../parts/Choice.vue'
import type { Property } from './properties'

// What is told of some places: how many they are, or what the numbers of a property come to.
type StyleNumber = NonNullable<StyleDocument['badge']>
type Show = NonNullable<StyleNumber['show']>

const props = defineProps<{ number: StyleNumber; properties: Property[]; what: string }>()
const emit = defineEmits<{ change: [next: StyleNumber] }>()

const shows: Record<Show, string> = {
  count: 'how many places there are',
  sum: 'the sum of',
  mean: 'the mean of',
  least: 'the least of',
  greatest: 'the greatest of',
}

/** The properties with numbers, with the one that is chosen, of whatever kind it is. */
const choices = computed(() => {
  const names = props.properties.filter((p) => p.number).map((p) => p.name)
  if (props.number.property) names.push(props.number.property)
  return Object.fromEntries(names.map((name) => [name, name]))
})

/** A sum of something is of the first property there is. */
function choose(show: string, property = props.number.property ?? Object.keys(choices.value)[0]): void {
  emit('change', show === 'count' || !property ? {} : { show: show as Show, property })
}
</script>

<template>
  <Choice
    :model-value="number.show ?? 'count'"
    :options="shows"
    :label="`What ${what} tell`"
    @update:model-value="(show) => choose(show)"
  />
  <Choice
    v-if="number.property"
    :model-value="number.property"
    :options="choices"
    :label="`Property that ${what} tell of`"
    @update:model-value="(property) => choose(number.show ?? 'sum', property)"
  />
</template>
