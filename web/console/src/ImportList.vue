<script setup lang="ts">
import Button from 'primevue/button'
import { onMounted, onUnmounted } from 'vue'
import { type Import, rejectedPath } from './api/client'
import { useImports } from './useImports'

// The imports under way, and the last ones that are over. They go on whether or not anybody looks.
const { sending, imports, busy, ended, refresh, dismiss } = useImports()
let timer = 0
let looks = 0

onMounted(() => {
  void refresh()
  timer = window.setInterval(() => {
    if (document.hidden) return
    if (busy.value || sending.value.length > 0 || ++looks % 5 === 0) void refresh()
  }, 1000)
})
onUnmounted(() => clearInterval(timer))

const rows = (n: number) => `${n.toLocaleString('en')} ${n === 1 ? 'row' : 'rows'}`
const percent = (share: number) => `${Math.floor(share * 100)} %`
const when = (text: string) => new Date(text).toLocaleString('en', { dateStyle: 'medium', timeStyle: 'short' })

function said(i: Import): string {
  const r = i.report
  switch (i.status) {
    case 'accepted':
      return 'being received'
    case 'running':
      return `${rows(i.rows)} read${i.bytes_total ? `, ${percent(i.bytes_read / i.bytes_total)}` : ''}`
    case 'successful':
      return r
        ? `${rows(r.rows)} read: ${r.created.toLocaleString('en')} new, ${r.replaced.toLocaleString('en')} replaced, ${r.rejected.toLocaleString('en')} rejected`
        : 'imported'
    case 'dismissed':
      return 'called off, nothing was imported'
  }
  return `failed: ${i.problem ?? 'nothing was imported'}`
}
</script>

<template>
  <section v-if="imports.length + sending.length > 0" class="imports" aria-labelledby="imports-title">
    <h2 id="imports-title">Imports</h2>
    <ul>
      <li v-for="s in sending" :key="s.key">
        <b dir="auto">{{ s.name }}</b> into {{ s.into }}
        <progress :value="s.share" :aria-label="`${s.name} is being sent`" />
        <span>{{ percent(s.share) }} sent</span>
        <Button label="Cancel" size="small" severity="secondary" text @click="s.stop()" />
      </li>
      <li v-for="i in imports" :key="i.id" :class="i.status">
        <b dir="auto">{{ i.file_name || 'A file' }}</b> into {{ i.collection }}
        <progress
          v-if="!ended(i) && i.bytes_total"
          :value="i.bytes_read / i.bytes_total"
          :aria-label="`${i.file_name} is being read`"
        />
        <span class="said">{{ said(i) }}</span>
        <time :datetime="i.started_at">{{ when(i.started_at) }}</time>
        <a v-if="i.report && i.report.kept > 0" :href="rejectedPath(i.id)" download>Rejected rows</a>
        <Button v-if="!ended(i)" label="Cancel" size="small" severity="secondary" text @click="dismiss(i.id)" />
        <Button
          v-else
          icon="pi pi-times"
          size="small"
          severity="secondary"
          text
          :aria-label="`Forget the import of ${i.file_name}`"
          title="Forget"
          @click="dismiss(i.id)"
        />
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
