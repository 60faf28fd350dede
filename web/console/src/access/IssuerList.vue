<script setup lang="ts">
import Button from 'primevue/button'
import Message from 'primevue/message'
import { ref } from 'vue'
import { deleteIssuer, fetchIssuers, type Issuer } from '../api/issuers'
import Icon from '../parts/Icon.vue'
import { useConfirming } from '../parts/useConfirming'
import { counted } from '../text/format'
import IssuerForm from './IssuerForm.vue'
import { useList } from '../parts/useList'

// The issuers whose tokens are taken: the app's own users come with these.
const { list: issuers, problem, refresh, change } = useList(fetchIssuers)
const opened = ref<string | null>(null) // the id of the one that is being changed, "" for a new one
const confirm = useConfirming()

async function kept(): Promise<void> {
  opened.value = null
  await refresh()
}

const titleOf = (i: Issuer) => i.title || i.id

function askToRemove(i: Issuer): void {
  confirm.require({
    header: `Take no more tokens of ${titleOf(i)}?`,
    message: 'Its people become guests at once. Who has signed in through it is signed out.',
    rejectProps: { label: 'Keep it', severity: 'secondary' },
    acceptProps: { label: 'Remove', severity: 'danger' },
    accept: () => void change(() => deleteIssuer(i.id), `${titleOf(i)} is removed.`, `${titleOf(i)} is not removed.`),
  })
}
</script>

<template>
  <section aria-labelledby="issuers-title">
    <div class="head">
      <h2 id="issuers-title">Issuers of your own users</h2>
      <Button v-if="opened !== ''" label="Add an issuer" size="small" severity="secondary" @click="opened = ''">
        <template #icon><Icon name="plus" /></template>
      </Button>
    </div>
    <p class="soft"
      >An app whose users have accounts elsewhere passes their tokens on. Here you say whose tokens count, and what
      their people may do.</p
    >
    <Message v-if="problem" severity="error">{{ problem }}</Message>
    <IssuerForm v-if="opened === ''" :issuer="null" @kept="kept" @close="opened = null" />
    <ul v-if="issuers?.length" class="rows">
      <li v-for="i in issuers" :key="i.id" :data-issuer="i.id">
        <div class="what">
          <b dir="auto">{{ titleOf(i) }}</b> <code>{{ i.id }}</code>
          <p class="soft"
            >{{ i.issuer }} · {{ counted(i.rules.length, 'rule', 'rules')
            }}{{ i.client_id ? ' · people sign in to the console through it' : '' }}</p
          >
        </div>
        <Button label="Change" size="small" severity="secondary" @click="opened = opened === i.id ? null : i.id" />
        <Button
          size="small"
          severity="secondary"
          text
          :aria-label="`Remove ${titleOf(i)}`"
          :title="`Remove ${titleOf(i)}`"
          @click="askToRemove(i)"
        >
          <Icon name="trash" />
        </Button>
        <IssuerForm v-if="opened === i.id" :issuer="i" @kept="kept" @close="opened = null" />
      </li>
    </ul>
  </section>
</template>

<style scoped>
.head {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  justify-content: space-between;
  gap: 0.4rem 1rem;
}
.rows > li {
  column-gap: 0.6rem;
}
.what {
  flex: 1 1 18rem;
  min-width: 0;
  overflow-wrap: anywhere;
}
</style>
