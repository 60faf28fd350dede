<script setup lang="ts">
import type { Box } from '@idlebeacon/map'
import confirmdialog from '@primeuix/themes/aura/confirmdialog'
import dialog from '@primeuix/themes/aura/dialog'
import ConfirmDialog from 'primevue/confirmdialog'
import Message from 'primevue/message'
import { computed, defineAsyncComponent, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { type Collection, deleteCollection } from '../api/collections'
import { explain } from '../api/explain'
import ImportFlow from '../importing/ImportFlow.vue'
import ImportList from '../importing/ImportList.vue'
import { showing } from '../map/address'
import { useCollections } from '../stores/collections'
import { useConfirming } from '../parts/useConfirming'
import { useNotices } from '../stores/notices'
import { useSession } from '../stores/session'
import { counted } from '../text/format'
import { addToTheme } from '../theme'
import CollectionEntry from './CollectionEntry.vue'
import DeletedList from './DeletedList.vue'
import FeatureTable from './FeatureTable.vue'

// The collections, what is in them, and how they are drawn. Which of them is open is in the address.
const SchemaEditor = defineAsyncComponent(() => import('../schema/SchemaEditor.vue'))
const StyleEditor = defineAsyncComponent(() => import('../style/StyleEditor.vue'))

addToTheme({ confirmdialog, dialog })
const route = useRoute()
const router = useRouter()
const store = useCollections()
const notices = useNotices()
const session = useSession()
const confirm = useConfirming()

const deletions = ref(0)
type Part = 'items' | 'style' | 'schema'
const opened = computed(() =>
  route.name === 'collection' ? { id: String(route.params.collection), part: String(route.params.part) as Part } : null,
)
const missing = computed(() => opened.value && store.collections && !store.find(opened.value.id))
const text = (name: string) => String([route.query[name] ?? ''].flat()[0] ?? '')

function open(c: Collection, part: Part): void {
  const same = opened.value?.id === c.id && opened.value.part === part
  void router.push(same ? { name: 'data' } : { name: 'collection', params: { collection: c.id, part } })
}

/** Keeps what the table of items shows in the address. */
function list(filter: string, sort: string): void {
  void router.replace({ query: { ...(filter && { filter }), ...(sort && { sort }) } })
}

function show(box: Box | null): void {
  if (box) void router.push(showing(box))
}

function askToDelete(c: Collection): void {
  confirm.require({
    header: `Delete ${c.title}?`,
    message: `Its ${counted(c.count, 'item is', 'items are')} deleted with it. It can be brought back for a while.`,
    rejectProps: { label: 'Keep it', severity: 'secondary' },
    acceptProps: { label: 'Delete', severity: 'danger' },
    accept: () => void remove(c),
  })
}

async function remove(c: Collection): Promise<void> {
  try {
    await deleteCollection(c.id)
    deletions.value++
    notices.done(`${c.title} is deleted. Below the list it can be brought back.`)
    if (opened.value?.id === c.id) await router.replace({ name: 'data' })
  } catch (e) {
    notices.failed(`${c.title} is not deleted. ${explain(e)}`)
  }
  await store.refresh()
}
</script>

<template>
  <main>
    <h1 tabindex="-1">Data</h1>
    <Message v-if="store.problem" severity="error">{{ store.problem }}</Message>
    <template v-if="session.owner">
      <ImportFlow :collections="store.collections ?? []" @imported="store.refresh" @show="show" />
      <ImportList />
    </template>
    <p v-else-if="session.guest" class="hint"
      >You see what guests may see.
      <button type="button" class="link" @click="session.asking = true">Sign in</button> as an owner to import files and
      change how collections are drawn.</p
    >
    <section aria-labelledby="data-title">
      <h2 id="data-title">Collections</h2>
      <p v-if="store.collections?.length === 0">{{
        session.owner ? 'There are none yet. Import a file to make the first.' : 'There are none that you may see.'
      }}</p>
      <Message v-if="missing" severity="warn">There is no collection {{ opened?.id }}.</Message>
      <ul v-if="store.collections" class="list">
        <CollectionEntry
          v-for="c in store.collections"
          :key="c.id"
          :collection="c"
          :opened="opened?.id === c.id ? opened.part : null"
          :manageable="session.owner"
          @open="(part) => open(c, part)"
          @show="show"
          @remove="askToDelete(c)"
        >
          <FeatureTable
            v-if="opened?.id === c.id && opened.part === 'items'"
            :collection="c"
            :filter="text('filter')"
            :sort="text('sort')"
            @list="list"
            @show="show"
          />
          <StyleEditor
            v-if="session.owner && opened?.id === c.id && opened.part === 'style'"
            :collection="c"
            @saved="store.refresh"
          />
          <SchemaEditor
            v-if="session.owner && opened?.id === c.id && opened.part === 'schema'"
            :collection="c"
            @saved="store.refresh"
          />
        </CollectionEntry>
      </ul>
    </section>
    <DeletedList v-if="session.ownsAll" :change="deletions" @restored="store.refresh" />
    <ConfirmDialog class="ask" />
  </main>
</template>

<style scoped>
main {
  flex: 1;
  min-height: 0;
  overflow: auto;
  padding: 1rem;
  display: flex;
  flex-direction: column;
  gap: 1rem;
}
main > * {
  width: 100%;
  max-width: 1180px;
  margin-inline: auto;
}
h1 {
  font-size: 1.25rem;
}
h2 {
  font-size: 1rem;
  margin-bottom: 0.5rem;
}
.hint {
  color: var(--soft);
}
.list {
  list-style: none;
  margin: 0;
  padding: 0;
  display: flex;
  flex-direction: column;
  gap: 0.6rem;
}
</style>
