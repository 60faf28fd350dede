<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Message from 'primevue/message'
import ToggleSwitch from 'primevue/toggleswitch'
import { reactive, ref, shallowRef } from 'vue'
import { useList } from '../parts/useList'
import { explain } from '../api/explain'
import {
  changeHook,
  createHook,
  type Delivery,
  fetchDeliveries,
  fetchHooks,
  type Hook,
  removeHook,
  sendAgain,
} from '../api/watches'
import { useConfirming } from '../parts/useConfirming'
import { useCollections } from '../stores/collections'
import { counted, momentText } from '../text/format'

// The addresses that are told of notices and changes, and how the last messages ended.
const { list, problem, refresh, change } = useList(fetchHooks)
const collections = useCollections()
const making = ref(false)
const form = reactive({ id: '', url: '', notices: true, collections: [] as string[] })
const wrong = ref<string | null>(null)
const made = shallowRef<Hook | null>(null)

async function make(): Promise<void> {
  try {
    made.value = await createHook({ ...form, id: form.id.trim(), url: form.url.trim() })
    wrong.value = null
    making.value = false
    Object.assign(form, { id: '', url: '', notices: true, collections: [] })
    await refresh()
  } catch (e) {
    wrong.value = explain(e)
  }
}

const opened = ref<string | null>(null)
const messages = shallowRef<Delivery[] | null>(null)
async function open(h: Hook): Promise<void> {
  opened.value = opened.value === h.id ? null : h.id
  messages.value = null
  if (opened.value) messages.value = await fetchDeliveries(h.id).catch(() => null)
}
async function again(h: Hook, d?: Delivery): Promise<void> {
  await change(() => sendAgain(h.id, d?.number).then(() => undefined), 'It is sent again.', 'It is not sent again.')
  messages.value = await fetchDeliveries(h.id).catch(() => null)
}
const turn = (h: Hook, on: boolean) =>
  change(
    () => changeHook(h.id, { off: !on }).then(() => undefined),
    `${h.id} is ${on ? 'on' : 'off'}.`,
    `${h.id} is as it was.`,
  )
const confirm = useConfirming()
function remove(h: Hook): void {
  confirm.require({
    header: `Remove ${h.id}?`,
    message: 'It is told nothing any more, and the messages that wait for it are dropped.',
    rejectProps: { label: 'Keep it', severity: 'secondary' },
    acceptProps: { label: 'Remove', severity: 'danger' },
    accept: () =>
      void change(() => removeHook(h.id).then(() => undefined), `${h.id} is gone.`, `${h.id} is still there.`),
  })
}
const told = (h: Hook) =>
  [
    h.notices && `notices${h.kinds ? ` (${h.kinds.join(', ')})` : ''}${h.watches ? ` of ${h.watches.join(', ')}` : ''}`,
    h.collections.length > 0 && `changes of ${h.collections.join(', ')}`,
  ]
    .filter(Boolean)
    .join(' and ')
const stateOf = (d: Delivery) => ({ waiting: 'Waits', delivered: 'Delivered', dead: 'Given up' })[d.state]
</script>

<template>
  <div class="head">
    <p class="soft">
      A hook is an address that is sent what watches notice, and what changes. Messages are signed, and sent again for a
      day if they are not taken.
    </p>
    <Button v-if="!making" label="Make a hook" size="small" @click="making = true" />
  </div>
  <Message v-if="made?.secret" severity="success" closable @close="made = null">
    The hook {{ made.id }} is made. Its messages are signed with this secret, which is not shown again:
    <code>{{ made.secret }}</code>
  </Message>
  <form v-if="making" class="card" @submit.prevent="make">
    <label>Id <InputText v-model="form.id" size="small" placeholder="office" required /></label>
    <label
      >Address <InputText v-model="form.url" size="small" type="url" placeholder="https://office.example/told" required
    /></label>
    <label class="line"><input v-model="form.notices" type="checkbox" /> Tell it of notices</label>
    <label v-for="c in collections.collections ?? []" :key="c.id" class="line">
      <input v-model="form.collections" type="checkbox" :value="c.id" /> Tell it of changes to {{ c.title || c.id }}
    </label>
    <Message v-if="wrong" severity="error">{{ wrong }}</Message>
    <div class="acts">
      <Button type="submit" label="Make it" size="small" />
      <Button label="Cancel" size="small" severity="secondary" variant="text" @click="making = false" />
    </div>
  </form>
  <p v-if="problem" role="alert">The hooks cannot be shown. {{ problem }}</p>
  <p v-else-if="list && list.length === 0" class="soft">There is no hook yet.</p>
  <ul v-else-if="list" class="card">
    <li v-for="h in list" :key="h.id">
      <div class="what">
        <strong>{{ h.id }}</strong>
        <p class="address">{{ h.url }}</p>
        <p class="soft">Told of {{ told(h) }}.</p>
        <p v-if="h.waiting > 0 || h.dead > 0" :class="{ wrong: h.dead > 0 }">
          {{ counted(h.waiting, 'message waits', 'messages wait') }}, {{ counted(h.dead, 'was', 'were') }} given up.
        </p>
      </div>
      <div class="acts">
        <Button v-if="h.dead > 0" label="Send those again" size="small" severity="secondary" @click="again(h)" />
        <button type="button" class="link" :aria-expanded="opened === h.id" @click="open(h)">Messages</button>
        <Button label="Remove" size="small" severity="secondary" @click="remove(h)" />
        <ToggleSwitch
          :model-value="!h.off"
          :aria-label="`${h.id} is told`"
          @update:model-value="(on: boolean) => void turn(h, on)"
        />
      </div>
      <table v-if="opened === h.id && messages && messages.length > 0">
        <thead>
          <tr><th>Made</th><th>About</th><th>State</th><th>Attempts</th><th>Problem</th><th></th></tr>
        </thead>
        <tbody>
          <tr v-for="d in messages" :key="d.number">
            <td>{{ momentText(d.made_at) }}</td>
            <td>{{ d.notice ? `notice ${d.notice}` : `change ${d.change}` }}</td>
            <td>{{ stateOf(d) }}</td>
            <td>{{ d.attempts }}</td>
            <td>{{ d.problem }}</td>
            <td
              ><button v-if="d.state !== 'waiting'" type="button" class="link" @click="again(h, d)"
                >Send again</button
              ></td
            >
          </tr>
        </tbody>
      </table>
      <p v-else-if="opened === h.id && messages" class="soft">It was sent nothing yet.</p>
    </li>
  </ul>
</template>

<style scoped>
.head {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem 1.5rem;
  align-items: center;
  justify-content: space-between;
}
.head p {
  flex: 1 1 20rem;
}
p {
  margin: 0.15rem 0 0;
}
.card {
  list-style: none;
  margin: 0;
  padding: 0.3rem 0.9rem;
  background: var(--card);
  border: 1px solid var(--rule);
  border-radius: 8px;
}
form.card {
  display: grid;
  gap: 0.6rem;
  padding: 0.9rem;
  max-width: 34rem;
}
form label {
  display: grid;
  gap: 0.2rem;
}
form label.line {
  display: flex;
  gap: 0.5rem;
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
}
.address,
code {
  overflow-wrap: anywhere;
}
.soft {
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
table {
  flex: 1 1 100%;
  border-collapse: collapse;
  display: block;
  overflow-x: auto;
}
th,
td {
  padding: 0.3rem 0.8rem 0.3rem 0;
  text-align: start;
  white-space: nowrap;
}
th {
  color: var(--soft);
  font-weight: 600;
}
</style>
