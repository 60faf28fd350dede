<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { fetchWatches, type Noticed } from '../api/watches'
import Choice from '../parts/Choice.vue'
import NoticeList from './NoticeList.vue'
import { useNoticed } from './useNoticed'
import { kindText } from './words'

// What watches noticed, as it comes, by watch and kind.
const route = useRoute()
const router = useRouter()
const one = (name: string) => [route.query[name] ?? []].flat()[0] ?? ''
const named = one('watch')
const kind = one('kind')
const device = one('device')

const watches = ref<{ value: string; label: string }[]>(named ? [{ value: named, label: named }] : [])
void fetchWatches()
  .then((all) => {
    const known = all.map((w) => ({ value: w.id, label: w.title || w.id }))
    // Notices stay when their watch goes.
    watches.value = known.some((w) => w.value === named) || !named ? known : [...known, { value: named, label: named }]
  })
  .catch(() => undefined) // one can choose by kind all the same
const watchChoices = computed(() => [{ value: '', label: 'All watches' }, ...watches.value])
const kindChoices = [
  { value: '', label: 'All kinds' },
  ...Object.entries(kindText).map(([value, label]) => ({ value, label })),
]

const { all, more, problem, known, further } = useNoticed(
  {
    limit: 50,
    ...(named && { watches: [named] }),
    ...(kind && { kinds: [kind] }),
    ...(device && { devices: [device] }),
  },
  (n) =>
    (!named || n.watch === named) &&
    (!kind || n.kind === kind) &&
    (!device || n.device === device || n.other === device),
)
const choose = (change: Record<string, string | undefined>) =>
  void router.replace({ name: 'devices', query: { ...route.query, ...change } })
const show = (n: Noticed) =>
  void router.push({ name: 'map', query: { lat: n.latitude, lon: n.longitude, zoom: 14, time: n.time } })
</script>

<template>
  <div class="tools">
    <Choice
      :model-value="named"
      :options="watchChoices"
      label="Watch"
      @update:model-value="(w: string) => choose({ watch: w || undefined })"
    />
    <Choice
      :model-value="kind"
      :options="kindChoices"
      label="Kind"
      @update:model-value="(k: string) => choose({ kind: k || undefined })"
    />
    <button v-if="device" type="button" class="link" @click="choose({ device: undefined })"
      >Only of {{ device }}; show all</button
    >
  </div>
  <p v-if="problem" role="alert">The notices cannot be shown. {{ problem }}</p>
  <p v-else-if="known && all.length === 0" class="soft">
    {{
      named || kind || device
        ? 'Nothing like that was noticed.'
        : 'Nothing noticed yet. Watches notice who enters or leaves an area, stays, speeds, is silent or near others.'
    }}
  </p>
  <div v-if="all.length > 0" class="card"><NoticeList :notices="all" chips @show="show" /></div>
  <button v-if="more" type="button" class="link" @click="further">Older ones</button>
</template>

<style scoped>
.tools {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem;
  align-items: center;
}
.card {
  background: var(--card);
  border: 1px solid var(--rule);
  border-radius: 8px;
  padding: 0 0.8rem;
}
.card :deep(li:first-child) {
  border-top: 0;
}
.soft {
  color: var(--soft);
  line-height: 1.5;
}
.link {
  align-self: start;
}
</style>
