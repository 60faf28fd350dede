<script setup lang="ts">
import InputText from 'primevue/inputtext'
import { ref } from 'vue'
import { type Collection, setGuests } from '../api/collections'
import { explain } from '../api/explain'
import Choice from '../parts/Choice.vue'
import { useCollections } from '../stores/collections'
import { useNotices } from '../stores/notices'

// What guests, who have no key, may do with each collection, and from pages of which other sites.
const store = useCollections()
const notices = useNotices()
const typed = ref<Record<string, string>>({}) // origins that are being typed, by collection

const may: Record<Collection['guests'], string> = {
  nothing: 'nothing: they do not know of it',
  read: 'see it',
  suggest: 'see it and suggest edits',
}
const said = (c: Collection) => typed.value[c.id] ?? (c.guest_origins ?? []).join(', ')

async function set(c: Collection, guests: string, origins: string): Promise<void> {
  try {
    await setGuests(c.id, guests as Collection['guests'], origins.split(/[\s,]+/).filter(Boolean))
    delete typed.value[c.id]
    notices.done(`${c.title}: guests may ${guests === 'nothing' ? 'do nothing' : may[guests as Collection['guests']]}.`)
  } catch (e) {
    notices.failed(`${c.title} stays as it was. ${explain(e)}`)
  }
  await store.refresh()
}
</script>

<template>
  <section aria-labelledby="guests-title">
    <h2 id="guests-title">Guests</h2>
    <p class="soft">Guests have no key. A collection lets them do nothing until you say so here.</p>
    <p v-if="store.collections?.length === 0">There are no collections yet.</p>
    <ul v-else class="rows">
      <li v-for="c in store.collections ?? []" :key="c.id" :data-guests="c.id">
        <b dir="auto">{{ c.title }}</b>
        <span class="field">
          Guests may
          <Choice
            :model-value="c.guests"
            :options="may"
            :label="`What guests may do with ${c.title}`"
            @update:model-value="(v: string) => set(c, v, said(c))"
          />
        </span>
        <form v-if="c.guests !== 'nothing'" class="field" @submit.prevent="set(c, c.guests, said(c))">
          <label :for="`origins-${c.id}`">also from web pages of</label>
          <InputText
            :id="`origins-${c.id}`"
            :model-value="said(c)"
            size="small"
            class="origins"
            placeholder="https://app.example, or * for all"
            @update:model-value="(v: string | undefined) => (typed[c.id] = v ?? '')"
            @blur="typed[c.id] !== undefined && set(c, c.guests, said(c))"
          />
        </form>
      </li>
    </ul>
  </section>
</template>

<style scoped>
li b {
  flex: 1 1 14rem;
  min-width: 0;
  overflow-wrap: anywhere;
}
.origins {
  width: 17rem;
  max-width: 100%;
}
.field {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.4rem;
}
</style>
