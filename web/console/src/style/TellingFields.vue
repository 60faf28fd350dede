<script setup lang="ts">
import { computed } from 'vue'
import type { StyleDocument } from '../api/styles'
import Choice from '../parts/Choice.vue'
import Icon from '../parts/Icon.vue'
import FieldList from './FieldList.vue'
import { having, numberOf, type Property, textOf } from './properties'

// What is told of a feature: its label, its tooltip, its popup; and where the collection is shown.
const props = defineProps<{ draft: StyleDocument; properties: Property[]; part: 'map' | 'popup' }>()
const emit = defineEmits<{ change: [next: StyleDocument] }>()

type Template = NonNullable<StyleDocument['popup']>
type Action = NonNullable<Template['actions']>[number]
const popup = computed<Template>(() => props.draft.popup ?? {})
const actions = computed<Action[]>(() => popup.value.actions ?? [])

function setPopup(next: Template): void {
  emit(
    'change',
    Object.keys(next).length > 0 ? { ...props.draft, popup: next } : having(props.draft, 'popup', undefined),
  )
}
const setActions = (next: Action[]) => setPopup(having(popup.value, 'actions', next.length > 0 ? next : undefined))
const setAction = (i: number, member: keyof Action, value: string) =>
  setActions(actions.value.map((a, j) => (j === i ? { ...a, [member]: value } : a)))
function setZoom(member: 'from' | 'to', value: number | undefined): void {
  const zooms = { ...(props.draft.zooms ?? { from: 0, to: 24 }), [member]: value ?? (member === 'from' ? 0 : 24) }
  emit(
    'change',
    zooms.from === 0 && zooms.to === 24 ? having(props.draft, 'zooms', undefined) : { ...props.draft, zooms },
  )
}
/** The properties to choose from, after what is shown if none is chosen. */
const choices = (member: keyof typeof heads) => [
  { value: '', label: { title: 'the name', subtitle: 'none', image: 'found' }[member] },
  ...props.properties.map((p) => ({ value: p.name, label: p.name })),
]
const heads = { title: 'Title', subtitle: 'Line below it', image: 'Picture' } as const
</script>

<template>
  <template v-if="part === 'map'">
    <p class="row">
      <label
        ><input
          type="checkbox"
          :checked="draft.labels ?? false"
          @change="emit('change', { ...draft, labels: ($event.target as HTMLInputElement).checked })"
        />
        Names beside places</label
      >
      <label title="Its clusters may then lie on those of others"
        ><input
          type="checkbox"
          :checked="draft.apart ?? false"
          @change="emit('change', having(draft, 'apart', ($event.target as HTMLInputElement).checked || undefined))"
        />
        Apart from other collections</label
      >
      <label
        >Shown from zoom
        <input
          type="number"
          min="0"
          max="24"
          :value="draft.zooms?.from ?? 0"
          @change="setZoom('from', numberOf($event))"
      /></label>
      <label
        >to
        <input type="number" min="0" max="24" :value="draft.zooms?.to ?? 24" @change="setZoom('to', numberOf($event))"
      /></label>
      <label
        >Order
        <input
          type="number"
          min="-100"
          max="100"
          :value="draft.order ?? 0"
          title="Collections of a higher one are drawn over others"
          @change="emit('change', { ...draft, order: numberOf($event) ?? 0 })"
      /></label>
    </p>
    <h3>Shown beside the pointer</h3>
    <FieldList
      :fields="draft.tooltip ?? []"
      :properties="properties"
      what="tooltip"
      :most="5"
      @change="emit('change', having(draft, 'tooltip', $event.length > 0 ? $event : undefined))"
    />
  </template>
  <template v-else>
    <p class="row">
      <template v-for="(label, member) in heads" :key="member">
        <span>{{ label }}</span>
        <Choice
          :model-value="popup[member] ?? ''"
          :options="choices(member)"
          :label="label"
          @update:model-value="(name) => setPopup(having(popup, member, name))"
        />
      </template>
    </p>
    <h3>Fields{{ popup.fields?.length ? '' : ': all, as none are chosen' }}</h3>
    <FieldList
      :fields="popup.fields ?? []"
      :properties="properties"
      what="popup"
      :most="200"
      formats
      @change="setPopup(having(popup, 'fields', $event.length > 0 ? $event : undefined))"
    />
    <h3>Actions</h3>
    <p v-for="(a, i) in actions" :key="i" class="row">
      <input
        type="text"
        :value="a.label"
        placeholder="label"
        maxlength="200"
        :aria-label="`Label of action ${i + 1}`"
        @change="setAction(i, 'label', textOf($event))"
      />
      <input
        type="text"
        class="wide"
        :value="a.url"
        placeholder="https://example.org/reserve?place={id}"
        spellcheck="false"
        :aria-label="`URL of action ${i + 1}`"
        @change="setAction(i, 'url', textOf($event))"
      />
      <button
        type="button"
        :aria-label="`Remove action ${i + 1}`"
        title="Remove"
        @click="setActions(actions.filter((_, j) => j !== i))"
        ><Icon name="x"
      /></button>
    </p>
    <button
      v-if="actions.length < 10"
      type="button"
      class="add"
      @click="setActions([...actions, { label: 'Open', url: 'https://example.org/{id}' }])"
      >Add an action</button
    >
  </template>
</template>
