<script setup lang="ts">
import { Looks, type Style, type View } from '@idlebeacon/map'
import Button from 'primevue/button'
import Message from 'primevue/message'
import { computed, onMounted, shallowRef, toRef } from 'vue'
import type { Collection } from '../api/collections'
import { fetchItems, type Item } from '../api/items'
import Icon from '../parts/Icon.vue'
import DensityFields from './DensityFields.vue'
import LineFields from './LineFields.vue'
import LookFields from './LookFields.vue'
import NumberFields from './NumberFields.vue'
import { openingView } from './openingView'
import { propertiesOf, type Property } from './properties'
import StyleAsText from './StyleAsText.vue'
import StylePreview from './StylePreview.vue'
import TellingFields from './TellingFields.vue'
import { useStyleDraft } from './useStyleDraft'

// How a collection is drawn and what its popups show, by hand or as its document. It is kept when saved.
const props = defineProps<{ collection: Collection }>()
const emit = defineEmits<{ saved: [] }>()

const editing = useStyleDraft(toRef(props, 'collection'), () => emit('saved'))
const { draft, past, overtaken, problem, refused, warnings, legend, changed, change } = editing
const looks = computed(() => draft.value && new Looks(draft.value as Style))
const properties = shallowRef<Property[]>([])
const start = shallowRef<View | null>(null) // what the small map shows first

onMounted(async () => {
  // Some items from all over the collection: what is alike often has ids that are alike.
  const items: Item[] = []
  const firsts: Item[] = [] // of each part
  for (const part of [0, 0.2, 0.4, 0.6, 0.8]) {
    const offset = Math.floor(part * props.collection.count)
    // The document can be edited without them.
    const page = await fetchItems(props.collection.id, { filter: '', sort: '', offset, limit: 40 }).catch(() => null)
    items.push(...(page?.items ?? []))
    firsts.push(...(page?.items.filter((i) => i.geometry.type === 'Point').slice(0, 1) ?? []))
  }
  properties.value = propertiesOf(items)
  start.value = await openingView(props.collection.id, firsts)
})
</script>

<template>
  <div class="editor">
    <Message v-if="overtaken" severity="warn" class="problem">
      Somebody else has changed the style meanwhile.
      <Button label="Go on from theirs" size="small" @click="editing.takeTheirs" />
      <Button label="Save mine in its place" size="small" severity="secondary" @click="overtaken()" />
    </Message>
    <Message v-else-if="problem ?? refused" severity="error" class="problem">{{ problem ?? refused }}</Message>
    <Message v-for="w in changed ? [] : warnings" :key="w.field" severity="warn" class="problem"
      >{{ w.field }}: {{ w.reason }}.</Message
    >
    <div v-if="draft && looks" class="sides">
      <div class="fields">
        <details open>
          <summary>Icons and colours</summary>
          <LookFields :draft="draft" :looks="looks" :collection="collection" @change="change" />
        </details>
        <details>
          <summary>Size and colour by a number</summary>
          <NumberFields :draft="draft" :properties="properties" @change="change" />
        </details>
        <details>
          <summary>Clusters and density</summary>
          <DensityFields :draft="draft" :properties="properties" @change="change" />
        </details>
        <details>
          <summary>Lines, areas and circles</summary>
          <LineFields :draft="draft" :properties="properties" @change="change" />
        </details>
        <details>
          <summary>On the map</summary>
          <TellingFields :draft="draft" :properties="properties" part="map" @change="change" />
        </details>
        <details>
          <summary>Popup</summary>
          <TellingFields :draft="draft" :properties="properties" part="popup" @change="change" />
        </details>
        <details>
          <summary>The whole style as a document</summary>
          <StyleAsText :draft="draft" @change="change" />
        </details>
      </div>
      <StylePreview :collection="collection" :draft="draft" :looks="looks" :legend="legend" :start="start" />
    </div>
    <div class="actions">
      <Button label="Save" size="small" :disabled="!changed || refused !== null" @click="editing.save">
        <template #icon><Icon name="check" /></template>
      </Button>
      <Button label="Undo" size="small" severity="secondary" :disabled="past.length === 0" @click="editing.undo">
        <template #icon><Icon name="undo" /></template>
      </Button>
      <Button label="Propose anew from the categories" size="small" severity="secondary" text @click="editing.reset" />
      <span v-if="changed" role="status">Not saved yet</span>
    </div>
  </div>
</template>

<style scoped>
.editor {
  flex-basis: 100%;
  min-width: 0;
}
.problem {
  margin-bottom: 0.5rem;
}
.sides {
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(0, 2fr);
  gap: 1rem;
  align-items: start;
}
.fields {
  min-width: 0;
}
.actions {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.6rem;
  margin-top: 0.6rem;
}
.fields :deep(summary) {
  padding: 0.3rem 0;
  font-weight: 600;
  cursor: pointer;
}
.fields :deep(details) {
  border-bottom: 1px solid var(--rule);
  padding-bottom: 0.4rem;
}
.fields :deep(h3) {
  margin: 0.5rem 0 0.2rem;
  font-size: 0.88rem;
}
.fields :deep(table) {
  border-collapse: collapse;
  font-size: 0.9rem;
}
.fields :deep(caption) {
  text-align: start;
  color: var(--soft);
  font-size: 0.88rem;
}
.fields :deep(th),
.fields :deep(td) {
  padding: 0.15rem 0.35rem;
  text-align: start;
  font-weight: normal;
  overflow-wrap: anywhere;
}
.fields :deep(.count) {
  color: var(--soft);
}
.fields :deep(.row) {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.35rem 0.7rem;
  margin: 0.3rem 0;
  font-size: 0.9rem;
}
.fields :deep(input[type='text']),
.fields :deep(input[type='number']),
.fields :deep(textarea) {
  padding: 0.2rem 0.3rem;
  border: 1px solid var(--rule);
  border-radius: 5px;
  background: var(--card);
  color: inherit;
  font: inherit;
}
.fields :deep(input[type='text']) {
  width: 8rem;
}
.fields :deep(input[type='text'].wide) {
  width: 16rem;
  max-width: 100%;
}
.fields :deep(input[type='text'].short) {
  width: 4rem;
}
.fields :deep(input[type='number']) {
  width: 4.5rem;
}
.fields :deep(input[type='color']) {
  width: 2.2rem;
  height: 1.7rem;
  padding: 0;
  border: 0;
  background: none;
}
.fields :deep(textarea) {
  width: 100%;
  box-sizing: border-box;
  font-family: ui-monospace, 'DejaVu Sans Mono', monospace;
  font-size: 0.8rem;
}
.fields :deep(.tools) {
  white-space: nowrap;
}
.fields :deep(.tools button),
.fields :deep(.row > button) {
  min-width: 26px;
  min-height: 26px;
  padding: 0.15rem 0.3rem;
  border: 0;
  background: none;
  color: inherit;
  cursor: pointer;
}
.fields :deep(.tools button:disabled) {
  opacity: 0.3;
}
.fields :deep(button.add) {
  margin-top: 0.3rem;
  padding: 0.2rem 0.5rem;
  border: 1px solid var(--rule);
  border-radius: 5px;
  background: none;
  color: inherit;
  font: inherit;
  font-size: 0.9rem;
  cursor: pointer;
}
@media (max-width: 760px) {
  .fields :deep(th) {
    min-width: 5.5rem;
    overflow-wrap: break-word;
  }
  .sides {
    grid-template-columns: minmax(0, 1fr);
  }
  .fields :deep(table) {
    display: block;
    max-width: 100%;
    overflow-x: auto;
  }
}
</style>
