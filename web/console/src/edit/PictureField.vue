<script setup lang="ts">
import { ownIconNames, type Position, setIconSheet } from '@idlebeacon/map'
import InputText from 'primevue/inputtext'
import { computed, onMounted, ref, useId } from 'vue'
import { explain } from '../api/explain'
import { fetchIconSheet } from '../api/icons'
import { addPicture, inSize, isPicture } from '../api/pictures'
import Icon from '../parts/Icon.vue'
import { written } from './fields'
import { iconFile } from './iconFile'

// The pictures of an item: brought from the device, or by their addresses.
const props = defineProps<{ label: string; value: unknown; collection: string; drop: boolean }>()
const emit = defineEmits<{ change: [value: unknown]; drop: []; place: [at: Position] }>()

const id = useId()
const busy = ref(0) // files that are on their way
const problem = ref<string | null>(null)
const taken = ref<Position | null>(null) // where a photo was taken
const address = ref('')
const icons = ref(ownIconNames())

onMounted(async () => {
  const sheet = await fetchIconSheet().catch(() => null) // the form is right without
  if (sheet) setIconSheet(sheet)
  icons.value = ownIconNames()
})
const all = computed(() => [props.value].flat().filter(isPicture))
const listed = computed(() => Array.isArray(props.value))

function set(pictures: readonly string[]): void {
  const [first] = pictures
  if (first === undefined) emit('change', undefined)
  else emit('change', pictures.length === 1 && !listed.value ? first : [...pictures])
}
function chosen(e: Event): void {
  const input = e.target as HTMLInputElement
  const files = [...(input.files ?? [])]
  input.value = ''
  void bring(files)
}
async function icon(e: Event): Promise<void> {
  const select = e.target as HTMLSelectElement
  const name = select.value
  select.value = ''
  try {
    await bring([await iconFile(name)])
  } catch (error) {
    problem.value = explain(error)
  }
}
async function bring(files: readonly File[]): Promise<void> {
  problem.value = null
  busy.value = files.length
  for (const file of files) {
    try {
      const made = await addPicture(props.collection, file)
      set([...all.value, made.href])
      const [lon, lat] = made.taken?.coordinates ?? []
      if (lon !== undefined && lat !== undefined) taken.value = { lat, lon }
    } catch (e) {
      problem.value = `${file.name} is not taken. ${explain(e)}`
    }
    busy.value--
  }
}
function add(): void {
  const text = address.value.trim()
  if (!isPicture(text)) problem.value = 'A picture has an address that begins with https://.'
  else {
    set([...all.value, text])
    address.value = ''
    problem.value = null
  }
}
</script>

<template>
  <fieldset class="pictures">
    <legend dir="auto">{{ label }}</legend>
    <ul v-if="all.length > 0">
      <li v-for="(p, i) in all" :key="p">
        <img :src="inSize(p, 'small')" :alt="`Picture ${i + 1}`" />
        <button
          type="button"
          class="plain"
          :aria-label="`Take out picture ${i + 1}`"
          @click="set(all.filter((_, j) => j !== i))"
          ><Icon name="x"
        /></button>
      </li>
    </ul>
    <p>
      <label class="bring" :for="`${id}-file`">{{ busy > 0 ? 'Bringing …' : 'Bring pictures' }}</label>
      <input
        :id="`${id}-file`"
        class="unseen"
        type="file"
        accept="image/jpeg,image/png,image/webp,image/gif"
        multiple
        :disabled="busy > 0"
        @change="chosen"
      />
      <select v-if="icons.length > 0" :disabled="busy > 0" aria-label="Bring one of your icons" @change="icon">
        <option value="">One of your icons</option>
        <option v-for="name in icons" :key="name">{{ name }}</option>
      </select>
      <button v-if="drop" type="button" class="link" @click="emit('drop')">Take all out</button>
    </p>
    <p class="address">
      <label class="unseen" :for="`${id}-address`">Address of a picture</label>
      <InputText
        :id="`${id}-address`"
        v-model="address"
        size="small"
        placeholder="or https://…"
        @keydown.enter.prevent="add"
      />
      <button type="button" class="plain" aria-label="Add the picture with this address" @click="add"
        ><Icon name="plus"
      /></button>
    </p>
    <p v-if="taken" role="status"
      >It was taken at {{ written(taken.lat) }}, {{ written(taken.lon) }}.
      <button type="button" class="link" @click="(emit('place', taken), (taken = null))">Put the place there</button></p
    >
    <p v-if="problem" class="wrong" role="alert">{{ problem }}</p>
  </fieldset>
</template>

<style scoped>
.pictures {
  border: 1px solid var(--rule);
  border-radius: 6px;
  padding: 0.3rem 0.7rem 0.6rem;
}
.pictures > * + * {
  margin-top: 0.4rem;
}
ul {
  display: flex;
  flex-wrap: wrap;
  gap: 0.4rem;
  list-style: none;
  margin: 0;
  padding: 0;
}
li {
  position: relative;
}
img {
  display: block;
  width: 84px;
  height: 64px;
  object-fit: cover;
  border-radius: 6px;
  background: var(--rule);
}
li .plain {
  position: absolute;
  inset: 2px 2px auto auto;
  background: var(--card);
}
.plain {
  padding: 0.2rem;
  border: 0;
  border-radius: 6px;
  background: none;
  color: inherit;
  cursor: pointer;
}
.bring {
  display: inline-block;
  margin-inline-end: 0.7rem;
  padding: 0.25rem 0.7rem;
  border: 1px solid var(--rule);
  border-radius: 6px;
  cursor: pointer;
}
.bring:has(+ :focus-visible) {
  outline: 3px solid var(--signal);
}
.address {
  display: grid;
  grid-template-columns: 1fr auto;
  gap: 0.3rem;
  align-items: center;
}
.address :deep(input) {
  width: 100%;
  min-width: 0;
}
.wrong {
  color: var(--signal);
}
</style>
