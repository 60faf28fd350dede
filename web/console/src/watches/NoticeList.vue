<script setup lang="ts">
import { RouterLink } from 'vue-router'
import type { Noticed } from '../api/watches'
import { useNow } from '../devices/useNow'
import { agoText } from '../devices/words'
import { kindText, namesWatch, noticeText } from './words'

// What watches noticed, the newest first. A click shows where that was.
defineProps<{ notices: readonly Noticed[]; chips?: boolean }>()
const emit = defineEmits<{ show: [notice: Noticed] }>()
const now = useNow()
const moments = new Intl.DateTimeFormat(undefined, { dateStyle: 'medium', timeStyle: 'medium' })
const ago = (n: Noticed) => agoText(now.value - Date.parse(n.time))
</script>

<template>
  <ol class="noticed">
    <li v-for="(n, i) in notices" :key="n.number ?? i">
      <span v-if="chips" class="kind" :class="n.kind">{{ kindText[n.kind] }}</span>
      <span class="what">
        <span
          ><button type="button" class="link" title="Show where that was" @click="emit('show', n)">{{
            n.device
          }}</button>
          {{ noticeText(n) }}</span
        >
        <RouterLink
          v-if="chips && n.watch && !namesWatch(n)"
          class="from"
          :to="{ name: 'devices', query: { show: 'notices', watch: n.watch } }"
          >{{ n.title || n.watch }}</RouterLink
        >
      </span>
      <time :datetime="n.time" :title="moments.format(Date.parse(n.time))">{{ ago(n) }}</time>
    </li>
  </ol>
</template>

<style scoped>
.noticed {
  list-style: none;
  margin: 0;
  padding: 0;
}
li {
  display: flex;
  gap: 0.6rem;
  align-items: baseline;
  padding: 0.35rem 0;
  border-top: 1px solid var(--rule);
}
.what {
  flex: 1;
  display: flex;
  flex-wrap: wrap;
  gap: 0 0.6rem;
  align-items: baseline;
  min-width: 0;
  overflow-wrap: anywhere;
}
.kind {
  flex: none;
  width: 5.2em;
  font-size: 0.85rem;
  color: var(--soft);
}
.kind.fast,
.kind.silent,
.kind.near {
  color: var(--signal);
  font-weight: 600;
}
.from {
  font-size: 0.85rem;
  color: var(--soft);
}
time {
  flex: none;
  color: var(--soft);
  font-size: 0.88rem;
  font-variant-numeric: tabular-nums;
}
.link {
  padding: 0;
  border: 0;
  background: none;
  color: var(--link, inherit);
  font: inherit;
  font-weight: 600;
  text-decoration: underline;
  text-underline-offset: 2px;
  cursor: pointer;
}
</style>
