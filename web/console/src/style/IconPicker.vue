<script setup lang="ts">
import { iconNames, lookOf, ownIconNames, setIconSheet } from '@idlebeacon/map'
import popoverTheme from '@primeuix/themes/aura/popover'
import Button from 'primevue/button'
import Popover from 'primevue/popover'
import { computed, ref, useTemplateRef } from 'vue'
import { explain } from '../api/explain'
import { deleteIcon, fetchIconSheet, saveIcon } from '../api/icons'
import CategoryMark from '../parts/CategoryMark.vue'
import Icon from '../parts/Icon.vue'
import { addToTheme } from '../theme'

// Chooses an icon by its picture; one's own can be brought from a file, and taken away.
const props = defineProps<{ icon: string | undefined; colour: string; label: string; none?: string }>()
const emit = defineEmits<{ choose: [icon: string] }>()

addToTheme({ popover: popoverTheme })
const popover = useTemplateRef<{ toggle(e: Event): void; hide(): void }>('popover')
const search = ref('')
const names = ref(iconNames())
const own = ref(ownIconNames())
const problem = ref<string | null>(null)
const said = ref('')
const found = computed(() => names.value.filter((n) => n.includes(search.value.trim().toLowerCase())))
const look = (icon: string | undefined) => lookOf({ ...(icon && { icon }), colour: props.colour })

async function refresh(): Promise<void> {
  const sheet = await fetchIconSheet().catch(() => null) // the built-in ones are here
  if (sheet) setIconSheet(sheet)
  names.value = iconNames()
  own.value = ownIconNames()
}
function open(e: Event): void {
  popover.value?.toggle(e)
  said.value = ''
  problem.value = null
  void refresh()
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
  const name = file.name
    .toLowerCase()
    .replace(/\.[^.]*$/, '')
    .replace(/[^a-z0-9]+/g, '-')
    .replace(/^-+|-+$/g, '')
    .slice(0, 60)
  try {
    const icon = await saveIcon(name || 'icon', file)
    await refresh()
    said.value = icon.removed?.length ? `Left out of ${file.name}: ${icon.removed.join(', ')}` : ''
    problem.value = null
    emit('choose', icon.name)
  } catch (error) {
    problem.value = explain(error)
  }
}

/** Takes one's own away; one that a style names stays, and the service says so. */
async function remove(name: string): Promise<void> {
  try {
    await deleteIcon(name)
    said.value = `${name} is deleted.`
    problem.value = null
  } catch (error) {
    problem.value = explain(error)
  }
  await refresh()
}
</script>

<template>
  <button
    type="button"
    class="icon"
    :aria-label="`${label}: ${icon || none || 'default'}`"
    :title="icon || none || 'default'"
    @click="open"
    ><CategoryMark :look="look(icon)"
  /></button>
  <Popover ref="popover">
    <div class="picker" role="group" :aria-label="label">
      <input v-model="search" type="search" placeholder="Find an icon" aria-label="Find an icon" />
      <div class="grid">
        <button v-if="none" type="button" class="plain" :aria-pressed="!icon" @click="choose('')">{{ none }}</button>
        <button
          v-for="n in found"
          :key="n"
          type="button"
          :title="n"
          :aria-label="n"
          :aria-pressed="n === icon"
          @click="choose(n)"
          ><CategoryMark :look="look(n)"
        /></button>
      </div>
      <label class="own">Your own, SVG or PNG <input type="file" accept=".svg,.png" @change="bring" /></label>
      <ul v-if="own.length > 0" class="owned">
        <li v-for="n in own" :key="n">
          <CategoryMark :look="look(n)" /> <span class="name">{{ n }}</span>
          <Button
            size="small"
            severity="secondary"
            text
            :aria-label="`Delete the icon ${n}`"
            :title="`Delete the icon ${n}`"
            @click="remove(n)"
          >
            <Icon name="trash" />
          </Button>
        </li>
      </ul>
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
.owned {
  list-style: none;
  margin: 0.3rem 0;
  padding: 0;
  max-height: 120px;
  overflow: auto;
}
.owned li {
  display: flex;
  align-items: center;
  gap: 0.4rem;
}
.owned .name {
  flex: 1;
  overflow-wrap: anywhere;
}
.problem {
  color: var(--signal);
}
</style>
