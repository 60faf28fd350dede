<script setup lang="ts">
import Button from 'primevue/button'
import { onMounted, ref, shallowRef, watch } from 'vue'
import { type Deleted, fetchDeleted, purgeDeleted, restoreDeleted } from '../api/collections'
import { explain, ServiceError } from '../api/explain'
import { useNotices } from '../stores/notices'
import { counted, momentText } from '../text/format'

// The collections that were deleted and can be brought back.
const props = defineProps<{ change: number }>() // another one when a collection was deleted
const emit = defineEmits<{ restored: [] }>()

const notices = useNotices()
const all = shallowRef<readonly Deleted[]>([])
const sure = ref(0) // the change whose collection is to go for good
const taken = ref(0) // the change whose collection has an id that another has now
const id = ref('')

async function load(): Promise<void> {
  all.value = await fetchDeleted().catch(() => all.value)
}
onMounted(load)
watch(() => props.change, load)

async function restore(d: Deleted, as = ''): Promise<void> {
  try {
    await restoreDeleted(d.change, as)
    notices.done(`${d.title} is back.`)
    taken.value = 0
    emit('restored')
  } catch (e) {
    if (e instanceof ServiceError && e.status === 409 && !as) {
      taken.value = d.change
      id.value = `${d.id}-2`
    } else notices.failed(`${d.title} is not brought back. ${explain(e)}`)
  }
  await load()
}
async function purge(d: Deleted): Promise<void> {
  if (sure.value !== d.change) {
    sure.value = d.change
    return
  }
  sure.value = 0
  await purgeDeleted(d.change).catch((e: unknown) => notices.failed(explain(e)))
  await load()
}
</script>

<template>
  <section v-if="all.length > 0" aria-labelledby="deleted-title">
    <h2 id="deleted-title">Deleted</h2>
    <ul>
      <li v-for="d in all" :key="d.change">
        <span
          ><b dir="auto">{{ d.title }}</b> <code v-if="d.title !== d.id">{{ d.id }}</code>{{ ' ' }}
          <span class="soft"
            >{{ counted(d.items, 'item', 'items') }} · deleted {{ momentText(d.at) }} by {{ d.by || d.actor }} · kept
            until {{ momentText(d.until) }}</span
          ></span
        >
        <span v-if="taken === d.change" class="as">
          <label>Its id is taken now. Bring it back as <input v-model="id" /></label>
          <Button label="Bring back" size="small" @click="restore(d, id.trim())" />
        </span>
        <span v-else class="as">
          <Button label="Bring back" size="small" severity="secondary" @click="restore(d)" />
          <Button
            :label="sure === d.change ? 'Really for good' : 'Delete for good'"
            size="small"
            :severity="sure === d.change ? 'danger' : 'secondary'"
            text
            @click="purge(d)"
          />
        </span>
      </li>
    </ul>
  </section>
</template>

<style scoped>
h2 {
  font-size: 1rem;
  margin-bottom: 0.5rem;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
  border: 1px solid var(--rule);
  border-radius: 10px;
  background: var(--card);
}
li {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  justify-content: space-between;
  gap: 0.4rem 1rem;
  padding: 0.5rem 1rem;
}
li + li {
  border-top: 1px solid var(--rule);
}
.as {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.4rem;
}
input {
  width: 10rem;
  padding: 0.25rem 0.4rem;
  border: 1px solid var(--rule);
  border-radius: 6px;
  background: var(--card);
  color: inherit;
  font: inherit;
}
</style>
