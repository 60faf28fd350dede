<script setup lang="ts">
import Button from 'primevue/button'
import { onMounted, onUnmounted } from 'vue'
import { type Import, rejectedLink } from '../api/imports'
import Icon from '../parts/Icon.vue'
import { ended, useImports } from '../stores/imports'
import { counted, momentText, numberText, shareText } from '../text/format'

// The imports under way, and the last ones that are over. They go on whether or not anybody looks.
const store = useImports()
let timer = 0
let looks = 0

onMounted(() => {
  void store.refresh()
  timer = window.setInterval(() => {
    if (document.hidden) return
    if (store.busy || store.sending.length > 0 || ++looks % 5 === 0) void store.refresh()
  }, 1000)
})
onUnmounted(() => clearInterval(timer))

function said(i: Import): string {
  const r = i.report
  switch (i.status) {
    case 'accepted':
      return 'being received'
    case 'running':
      return (
        `${counted(i.rows, 'row', 'rows')} read` + (i.bytes_total ? `, ${shareText(i.bytes_read / i.bytes_total)}` : '')
      )
    case 'successful':
      return r
        ? `${counted(r.rows, 'row', 'rows')} read: ${numberText(r.created)} new, ` +
            `${numberText(r.replaced)} replaced, ${numberText(r.rejected)} rejected`
        : 'imported'
    case 'dismissed':
      return 'called off, nothing was imported'
  }
  return `failed: ${i.problem ?? 'nothing was imported'}`
}
</script>

<template>
  <section v-if="store.imports.length + store.sending.length > 0" class="imports" aria-labelledby="imports-title">
    <h2 id="imports-title">Imports</h2>
    <ul>
      <li v-for="s in store.sending" :key="s.key">
        <b dir="auto">{{ s.name }}</b> into {{ s.into }}
        <progress :value="s.share" :aria-label="`${s.name} is being sent`" />
        <span>{{ shareText(s.share) }} sent</span>
        <Button label="Cancel" size="small" severity="secondary" text @click="s.stop()" />
      </li>
      <li v-for="i in store.imports" :key="i.id" :class="i.status">
        <b dir="auto">{{ i.file_name || 'A file' }}</b> into {{ i.collection }}
        <progress
          v-if="!ended(i) && i.bytes_total"
          :value="i.bytes_read / i.bytes_total"
          :aria-label="`${i.file_name} is being read`"
        />
        <span class="said">{{ said(i) }}</span>
        <time :datetime="i.started_at">{{ momentText(i.started_at) }}</time>
        <a v-if="i.report && i.report.kept > 0" :href="rejectedLink(i.id)" download>Rejected rows</a>
        <Button v-if="!ended(i)" label="Cancel" size="small" severity="secondary" text @click="store.dismiss(i.id)" />
        <Button
          v-else
          size="small"
          severity="secondary"
          text
          :aria-label="`Forget the import of ${i.file_name}`"
          title="Forget"
          @click="store.dismiss(i.id)"
        >
          <Icon name="x" />
        </Button>
      </li>
    </ul>
  </section>
</template>

<style scoped>
h2 {
  font-size: 1rem;
  margin-bottom: 0.4rem;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
  border: 1px solid var(--rule);
  border-radius: 10px;
  background: var(--card);
  max-height: 240px;
  overflow: auto;
}
li {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.2rem 0.7rem;
  padding: 0.3rem 1rem;
  font-size: 0.9rem;
  overflow-wrap: anywhere;
}
li + li {
  border-top: 1px solid var(--rule);
}
.said {
  flex: 1 1 220px;
}
.failed .said {
  color: var(--signal);
}
time {
  color: var(--soft);
}
</style>
