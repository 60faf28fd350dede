<script setup lang="ts">
import ToggleSwitch from 'primevue/toggleswitch'
import Button from 'primevue/button'
import { RouterLink } from 'vue-router'
import { useList } from '../parts/useList'
import { changeWatch, fetchWatches, removeWatch, type Watch } from '../api/watches'
import { useConfirming } from '../parts/useConfirming'
import { useSession } from '../stores/session'
import { ruleText } from './words'

// The watches in a list. They are drawn and changed on the map.
const session = useSession()
const { list, problem, change } = useList(fetchWatches)
const nameOf = (w: Watch) => w.title || w.id
const turn = (w: Watch, on: boolean) =>
  change(
    () => changeWatch(w.id, { off: !on }).then(() => undefined),
    `${nameOf(w)} is ${on ? 'on' : 'off'}.`,
    `${nameOf(w)} is as it was.`,
  )
const confirm = useConfirming()
function remove(w: Watch): void {
  confirm.require({
    header: `Remove ${nameOf(w)}?`,
    message: 'It notices nothing any more. What it noticed stays.',
    rejectProps: { label: 'Keep it', severity: 'secondary' },
    acceptProps: { label: 'Remove', severity: 'danger' },
    accept: () =>
      void change(
        () => removeWatch(w.id).then(() => undefined),
        `${nameOf(w)} is gone. What it noticed stays.`,
        `${nameOf(w)} is still there.`,
      ),
  })
}
</script>

<template>
  <p v-if="problem" role="alert">The watches cannot be shown. {{ problem }}</p>
  <p v-else-if="list && list.length === 0" class="soft">
    There is no watch yet.
    <RouterLink v-if="session.edits" :to="{ name: 'map', query: { watch: '' } }">Make one on the map</RouterLink>
  </p>
  <template v-else-if="list">
    <p v-if="session.edits"><RouterLink :to="{ name: 'map', query: { watch: '' } }">Make one on the map</RouterLink></p>
    <ul>
      <li v-for="w in list" :key="w.id" :class="{ off: w.off }">
        <div class="what">
          <strong dir="auto">{{ nameOf(w) }}</strong> <small>{{ w.id }}</small>
          <p>{{ ruleText(w.rule) }}</p>
          <p v-if="w.description" class="soft">{{ w.description }}</p>
          <p v-if="w.problem" class="wrong">It does not watch: {{ w.problem }}</p>
        </div>
        <div class="acts">
          <RouterLink :to="{ name: 'devices', query: { show: 'notices', watch: w.id } }">Notices</RouterLink>
          <RouterLink :to="{ name: 'map', query: { watch: w.id } }">On the map</RouterLink>
          <template v-if="session.edits">
            <RouterLink :to="{ name: 'map', query: { watch: w.id, edit: '' } }">Change</RouterLink>
            <Button label="Remove" size="small" severity="secondary" @click="remove(w)" />
            <ToggleSwitch
              :model-value="!w.off"
              :aria-label="`${nameOf(w)} watches`"
              @update:model-value="(on: boolean) => void turn(w, on)"
            />
          </template>
        </div>
      </li>
    </ul>
  </template>
</template>

<style scoped>
ul {
  list-style: none;
  margin: 0;
  padding: 0 0.9rem;
  background: var(--card);
  border: 1px solid var(--rule);
  border-radius: 8px;
}
li {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem 1.5rem;
  justify-content: space-between;
  align-items: center;
  padding: 0.7rem 0;
  border-top: 1px solid var(--rule);
}
li:first-child {
  border-top: 0;
}
.what {
  flex: 1 1 20rem;
  overflow-wrap: anywhere;
}
.what p {
  margin: 0.15rem 0 0;
}
.off strong,
.soft,
small {
  color: var(--soft);
}
.wrong {
  color: var(--signal);
}
.acts {
  display: flex;
  flex-wrap: wrap;
  gap: 0.9rem;
  align-items: center;
}
</style>
