<script setup lang="ts">
import InputText from 'primevue/inputtext'
import { computed, useId } from 'vue'
import Icon from '../parts/Icon.vue'
import { type Field, wrongWith } from './fields'
import { broken, type Rule } from './rules'

// One property in a form, with the input that suits it. What the service has against it is told beside it.
const props = defineProps<{
  field: Field
  rule?: Rule | undefined
  offers?: readonly string[] | undefined // values that others have
  refused?: string | undefined // by the service
  tried: boolean // what is missing is told only once somebody has tried to save
}>()
const emit = defineEmits<{ type: [text: string]; drop: [] }>()

const id = useId()
const long = 60 // characters for which one line is short
const label = computed(() => (props.rule ? props.rule.title : props.field.name))
const wrong = computed(() => {
  if (props.refused) return props.refused
  if (!props.tried && props.field.text.trim() === '') return null
  return wrongWith(props.field) ?? broken(props.field, props.rule)
})
const choices = computed(() => (props.rule?.choices ?? []).map(String))
const unlisted = computed(() => props.field.text !== '' && !choices.value.includes(props.field.text))
const kind = computed(() => {
  if (choices.value.length > 0) return 'choice'
  if (props.field.kind === 'truth') return 'truth'
  if (props.rule?.moment) return props.rule.moment
  const most = props.rule?.longest ?? 0
  if (props.field.kind === 'json' || props.field.text.length > long || most > 120) return 'long'
  return 'line'
})

/** A moment as the browser's own input has it, in the time of its user. */
const local = computed(() => {
  const at = new Date(props.field.text)
  if (props.field.text === '' || Number.isNaN(at.getTime())) return ''
  return new Date(at.getTime() - at.getTimezoneOffset() * 60_000).toISOString().slice(0, 16)
})
const typed = (e: Event) => emit('type', (e.target as HTMLInputElement).value)
function chosenMoment(e: Event): void {
  const { value } = e.target as HTMLInputElement
  emit('type', value === '' ? '' : new Date(value).toISOString().replace('.000Z', 'Z'))
}
const said = computed(() => ({
  id,
  'aria-invalid': wrong.value !== null,
  'aria-describedby': wrong.value ? `${id}-wrong` : undefined,
  'aria-required': props.rule?.required,
}))
</script>

<template>
  <div class="field" :data-property="field.name">
    <label :for="id" dir="auto"
      >{{ label }}<span v-if="rule?.unit" class="soft"> in {{ rule.unit }}</span
      ><span v-if="rule?.required" class="soft"> (needed)</span></label
    >
    <select v-if="kind === 'choice'" v-bind="said" :value="field.text" @change="typed">
      <option value="">—</option>
      <option v-if="unlisted" :value="field.text">{{ field.text }}</option>
      <option v-for="c in choices" :key="c" :value="c">{{ c }}</option>
    </select>
    <select v-else-if="kind === 'truth'" v-bind="said" :value="field.text" @change="typed">
      <option value="">—</option>
      <option value="true">yes</option>
      <option value="false">no</option>
    </select>
    <input v-else-if="kind === 'date'" v-bind="said" type="date" :value="field.text" @change="typed" />
    <input v-else-if="kind === 'date-time'" v-bind="said" type="datetime-local" :value="local" @change="chosenMoment" />
    <textarea v-else-if="kind === 'long'" v-bind="said" :value="field.text" rows="3" dir="auto" @input="typed" />
    <InputText
      v-else
      v-bind="said"
      :model-value="field.text"
      size="small"
      dir="auto"
      :inputmode="field.kind === 'number' ? 'decimal' : 'text'"
      :list="offers && offers.length > 0 ? `${id}-offers` : undefined"
      :invalid="wrong !== null"
      @update:model-value="(text) => emit('type', text ?? '')"
    />
    <button v-if="!rule?.required" type="button" class="drop" :aria-label="`Take out ${label}`" @click="emit('drop')"
      ><Icon name="x"
    /></button>
    <datalist v-if="offers && offers.length > 0" :id="`${id}-offers`">
      <option v-for="o in offers" :key="o" :value="o" />
    </datalist>
    <p v-if="rule?.help" class="soft">{{ rule.help }}</p>
    <p v-if="wrong" :id="`${id}-wrong`" class="wrong">{{ wrong }}</p>
  </div>
</template>

<style scoped>
.field {
  display: grid;
  grid-template-columns: 1fr auto;
  gap: 0.1rem 0.3rem;
  align-items: center;
}
.field > label,
.field > p {
  grid-column: 1 / -1;
}
label {
  overflow-wrap: anywhere;
}
.field :deep(input),
select,
textarea {
  width: 100%;
  min-width: 0;
  box-sizing: border-box;
}
input[type='date'],
input[type='datetime-local'],
select,
textarea {
  padding: 0.35rem 0.5rem;
  border: 1px solid var(--rule);
  border-radius: 6px;
  background: var(--card);
  color: inherit;
  font: inherit;
}
.wrong {
  color: var(--signal);
}
.drop {
  padding: 0.3rem;
  border: 0;
  border-radius: 6px;
  background: none;
  color: inherit;
  cursor: pointer;
}
</style>
