<script setup lang="ts">
import { addIcons, iconNames, lookOf } from '@idlebeacon/map'
import Popover from 'primevue/popover'
import { computed, ref, useTemplateRef } from 'vue'
import { fetchSprite, ProblemError, saveIcon } from '../api/client'
import CategoryMark from '../CategoryMark.vue'

// Chooses an icon by its picture; one's own can be brought from a file.
const props = defineProps<{ icon: string | undefined; colour: string; label: string; none?: string }>()
const emit = defineEmits<{ choose: [icon: string] }>()

const popover = useTemplateRef<{ toggle(e: Event): void; hide(): void }>('popover')
const search = ref('')
const names = ref(iconNames())
const problem = ref<string | null>(null)
const said = ref('')
const found = computed(() => names.value.filter((n) => n.includes(search.value.trim().toLowerCase())))
const look = (icon: string | undefined) => lookOf({ ...(icon && { icon }), colour: props.colour })

async function open(e: Event): Promise<void> {
  popover.value?.toggle(e)
  const sprite = await fetchSprite().catch(() => null) // the built-in ones are here
  if (sprite) addIcons(sprite)
  names.value = iconNames()
}
function choose(name: string): void {
  emit('choose', name)
  popover.value?.hide()
}

/** Brings a picture, under the name of its file. */
async function bring(e: Event): Promise<void> {
  const input = e.target as HTMLInputElement
  const file = input.files?.[0]
  input.value = ''
  if (!file) return
  const name = file.name.toLowerCase().replace(/\.[^.]*$/, '').replace(/[^a-z0-9]+/g, '-').replace(/^-+|-+$/g, '').slice(0, 60)
  try {
    const icon = await saveIcon(name || 'icon', file)
    addIcons(await fetchSprite())
    names.value = iconNames()
    said.value = icon.removed?.length ? `Left out of ${file.name}: ${icon.removed.join(', ')}` : ''
    problem.value = null
    emit('choose', icon.name)
  } catch (error) {
    problem.value = error instanceof ProblemError ? error.message : 'The service does not answer.'
  }
}
</script>

<template>
  <button type="button" class="icon" :aria-label="`${label}: ${icon || none || 'default'}`" :title="icon || none || 'default'" @click="open"><CategoryMark :look="look(icon)" /></button>
  <Popover ref="popover">
    <div class="picker" role="group" :aria-label="label">
      <input v-model="search" type="search" placeholder="Find an icon" aria-label="Find an icon" />
      <div class="grid">
        <button v-if="none" type="button" class="plain" :aria-pressed="!icon" @click="choose('')">{{ none }}</button>
        <button v-for="n in found" :key="n" type="button" :title="n" :aria-label="n" :aria-pressed="n === icon" @click="choose(n)"><CategoryMark :look="look(n)" /></button>
      </div>
      <label class="own">Your own, SVG or PNG <input type="file" accept=".svg,.png" @change="bring" /></label>
      <p v-if="problem" role="alert" class="problem">{{ problem }}</p>
      <p v-else-if="said" role="status">{{ said }}</p>
    </div>
  </Popover>
</template>

<style scoped>
.icon {
  display: inline-grid;
  place-items: center;
  padding: 3px;
  border: 1px solid var(--rule);
  border-radius: 6px;
  background: none;
  cursor: pointer;
}
.picker {
  width: 290px;
  font-size: 0.9rem;
}
.picker > input {
  width: 100%;
  padding: 0.25rem 0.4rem;
  border: 1px solid var(--rule);
  border-radius: 5px;
  background: var(--card);
  color: inherit;
  font: inherit;
}
.grid {
  display: flex;
  flex-wrap: wrap;
  gap: 2px;
  max-height: 220px;
  overflow: auto;
  margin: 0.5rem 0;
}
.grid button {
  padding: 4px;
  border: 1px solid transparent;
  border-radius: 6px;
  background: none;
  color: inherit;
  cursor: pointer;
}
.grid button:hover,
.grid button[aria-pressed='true'] {
  border-color: currentColor;
}
.own {
  display: block;
}
.own input {
  max-width: 100%;
}
.problem {
  color: var(--signal);
}
</style>
