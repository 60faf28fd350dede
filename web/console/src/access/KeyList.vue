<script setup lang="ts">
import Button from 'primevue/button'
import Message from 'primevue/message'
import ToggleSwitch from 'primevue/toggleswitch'
import { computed, ref } from 'vue'
import { fetchKeys, type Key, revokeKey } from '../api/keys'
import Icon from '../parts/Icon.vue'
import { useConfirming } from '../parts/useConfirming'
import { counted, momentText } from '../text/format'
import KeyUse from './KeyUse.vue'
import NewKeyForm from './NewKeyForm.vue'
import { useList } from '../parts/useList'

// The access keys: what each can do, and how it is used. New ones are made here, and old ones revoked.
const { list: keys, problem, refresh, change } = useList(fetchKeys)
const making = ref(false)
const withEnded = ref(false)
const confirm = useConfirming()

const ended = computed(() => keys.value?.filter((k) => k.state !== 'live').length ?? 0)
const shown = computed(() => (keys.value ?? []).filter((k) => withEnded.value || k.state === 'live'))

function askToRevoke(k: Key): void {
  const used = k.used_at ? `It was last used ${momentText(k.used_at)}.` : 'It was never used.'
  confirm.require({
    header: `Revoke ${k.name}?`,
    message: `Whoever has this key can do nothing with it any more, at once and for good. ${used}`,
    rejectProps: { label: 'Keep it', severity: 'secondary' },
    acceptProps: { label: 'Revoke', severity: 'danger' },
    accept: () => void change(() => revokeKey(k.id), `${k.name} is revoked.`, `${k.name} is not revoked.`),
  })
}
</script>

<template>
  <section aria-labelledby="keys-title">
    <div class="head">
      <h2 id="keys-title">Access keys</h2>
      <label v-if="ended > 0" class="ended">
        <ToggleSwitch v-model="withEnded" input-id="with-ended" />
        Show {{ counted(ended, 'key that has ended', 'keys that have ended') }}
      </label>
      <Button v-if="!making" label="Make a key" size="small" class="make" @click="making = true">
        <template #icon><Icon name="plus" /></template>
      </Button>
    </div>
    <p class="soft">A program sends its key with each request. Each key can do only what you see here.</p>
    <NewKeyForm v-if="making" @made="refresh" @close="making = false" />
    <Message v-if="problem" severity="error">{{ problem }}</Message>
    <table v-if="keys" class="keys">
      <thead>
        <tr>
          <th>Key</th>
          <th>What it can do</th>
          <th>Last used</th>
          <th>Last 30 days</th>
          <th><span class="unseen">What can be done with it</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="k in shown" :key="k.id" :data-key="k.name" :class="k.state">
          <td>
            <b dir="auto">{{ k.name }}</b>
            <p class="soft"
              >{{ k.role }} · ends with <code>{{ k.hint }}</code></p
            >
          </td>
          <td>
            {{ k.can }}
            <p v-if="k.state !== 'live'" class="state"
              >{{ k.state === 'revoked' ? 'Revoked' : 'Expired'
              }}{{ k.revoked_at ? ` ${momentText(k.revoked_at)}` : '' }}</p
            >
          </td>
          <td data-name="Last used">
            <template v-if="k.used_at">
              {{ momentText(k.used_at) }}
              <p class="soft">from {{ k.used_from }}</p>
            </template>
            <span v-else class="soft">never</span>
          </td>
          <td data-name="Last 30 days"><KeyUse :days="k.days" /></td>
          <td>
            <Button
              v-if="k.state === 'live'"
              label="Revoke"
              size="small"
              severity="secondary"
              :aria-label="`Revoke ${k.name}`"
              @click="askToRevoke(k)"
            />
          </td>
        </tr>
      </tbody>
    </table>
  </section>
</template>

<style scoped>
.head {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.4rem 1rem;
}
.make {
  margin-inline-start: auto;
}
.ended {
  display: flex;
  align-items: center;
  gap: 0.5rem;
  font-size: 0.9rem;
}
.keys {
  width: 100%;
  margin-top: 0.6rem;
  border-collapse: collapse;
  background: var(--card);
  border: 1px solid var(--rule);
}
th,
td {
  padding: 0.55rem 0.8rem;
  text-align: start;
  vertical-align: top;
  overflow-wrap: anywhere;
}
tr + tr td,
thead + tbody td {
  border-top: 1px solid var(--rule);
}
th {
  font-size: 0.85rem;
  color: var(--soft);
  font-weight: 600;
  white-space: nowrap;
}
td:first-child {
  min-width: 10rem;
}
td :deep(button) {
  white-space: nowrap;
}
td:last-child {
  overflow-wrap: normal;
}
.state {
  color: var(--signal);
}
tr.revoked b,
tr.expired b {
  text-decoration: line-through;
}
@media (max-width: 760px) {
  thead {
    display: none;
  }
  .keys tr {
    display: block;
    padding: 0.5rem 0;
  }
  .keys tr + tr {
    border-top: 1px solid var(--rule);
  }
  .keys td {
    display: block;
    padding: 0.25rem 0.8rem;
    border: 0;
  }
  td[data-name]::before {
    content: attr(data-name) ': ';
    color: var(--soft);
    font-size: 0.88rem;
  }
}
</style>
