<script setup lang="ts">
import Button from 'primevue/button'
import { computed, ref } from 'vue'
import { counted } from '../text/format'
import { useTray } from './tray'

// The edits that are not saved yet, and what stands against some of them.
const tray = useTray()
const open = ref(false)
const sure = ref(false)
const told = computed(() => {
  const n = counted(tray.waiting.length, 'edit', 'edits')
  if (tray.sending === tray.waiting.length) return `${n} will be sent when the service is back`
  return `${n} not saved yet`
})
function clear(): void {
  if (sure.value) tray.clear()
  sure.value = !sure.value
}
</script>

<template>
  <section v-if="tray.waiting.length > 0" class="tray" aria-label="Edits that are not saved">
    <div class="line">
      <button type="button" class="link" :aria-expanded="open" @click="open = !open">{{ told }}</button>
      <Button
        :label="tray.waiting.length === 1 ? 'Save it' : 'Save all as one'"
        size="small"
        :disabled="tray.busy"
        @click="tray.saveAll"
      />
    </div>
    <template v-if="open">
      <ul>
        <li v-for="w in tray.waiting" :key="w.request">
          <span dir="auto">{{ w.name }}</span>
          <button type="button" class="link" @click="tray.drop(w)">drop</button>
          <p v-if="w.problem" class="wrong">{{ w.problem }}</p>
        </li>
      </ul>
      <Button :label="sure ? 'Really drop all' : 'Drop all'" size="small" severity="secondary" @click="clear" />
    </template>
  </section>
</template>

<style scoped>
.tray {
  position: absolute;
  z-index: 3;
  inset: auto auto 44px 50%;
  translate: -50%;
  max-width: min(26rem, calc(100% - 24px));
  max-height: 50%;
  overflow: auto;
  padding: 0.5rem 0.8rem;
  border: 1px solid var(--rule);
  border-radius: 8px;
  background: var(--card);
  box-shadow: 0 2px 12px rgb(0 0 0 / 20%);
}
.line {
  display: flex;
  align-items: center;
  gap: 0.8rem;
}
ul {
  margin: 0.5rem 0;
  padding-inline-start: 1.1rem;
}
li {
  overflow-wrap: anywhere;
}
li .link {
  margin-inline-start: 0.5rem;
}
.wrong {
  color: var(--signal);
}
</style>
