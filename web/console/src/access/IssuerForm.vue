<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Message from 'primevue/message'
import { computed, ref, shallowRef } from 'vue'
import { type Issuer, type IssuerSettings, type IssuerVerdict, keepIssuer, tryIssuer } from '../api/issuers'
import type { Role } from '../api/keys'
import Choice from '../parts/Choice.vue'
import Icon from '../parts/Icon.vue'
import { pageLink } from '../text/format'
import { useDoing } from './useDoing'

// Says whose tokens are taken and what their people may, and tries that on a token before it is kept.
const props = defineProps<{ issuer: Issuer | null }>() // null for a new one
const emit = defineEmits<{ kept: []; close: [] }>()

const sources: Record<IssuerSettings['keys_from'], string> = {
  discovery: 'found by OpenID Connect discovery',
  address: 'at an address (JWK Set)',
  pasted: 'pasted here (JWK Set)',
}
const roles: Record<Role, string> = {
  reader: 'reader',
  contributor: 'contributor',
  editor: 'editor',
  owner: 'owner',
  device: 'device',
}

const listed = (values: string[] | undefined) => (values ?? []).join(', ')
const words = (text: string) => text.split(/[\s,]+/).filter(Boolean)

interface Line {
  claim: string
  has: string
  role: string
  collections: string
  rest: Partial<IssuerSettings['rules'][number]> // what the form has no field for
}

const form = ref({
  id: props.issuer?.id ?? '',
  title: props.issuer?.title ?? '',
  issuer: props.issuer?.issuer ?? '',
  from: (props.issuer?.keys_from ?? 'discovery') as string,
  address: props.issuer?.keys_address ?? '',
  keySet: props.issuer?.key_set ? JSON.stringify(props.issuer.key_set, null, 2) : '',
  audience: listed(props.issuer?.audience),
  nameClaim: props.issuer?.name_claim ?? '',
  origins: listed(props.issuer?.origins),
  client: props.issuer?.client_id ?? '',
  secret: '',
})
const rules = ref<Line[]>(
  (props.issuer?.rules ?? [{ role: 'reader' as Role }]).map(({ claim, has, role, collections, ...rest }) => ({
    claim: claim ?? '',
    has: has ?? '',
    role,
    collections: listed(collections),
    rest,
  })),
)
const token = ref('')
const verdict = shallowRef<IssuerVerdict | null>(null)
const { busy, problem, during } = useDoing()

/** The settings of the form. It throws if the key set is no JSON. */
function settings(): IssuerSettings {
  const text = (name: string, value: string) => (value.trim() ? { [name]: value.trim() } : {})
  return {
    issuer: form.value.issuer.trim(),
    keys_from: form.value.from as IssuerSettings['keys_from'],
    audience: words(form.value.audience),
    rules: rules.value.map((r) => ({
      ...r.rest,
      role: r.role as Role,
      ...text('claim', r.claim),
      ...text('has', r.has),
      ...(words(r.collections).length > 0 && { collections: words(r.collections) }),
    })),
    ...text('title', form.value.title),
    ...(form.value.from === 'address' && text('keys_address', form.value.address)),
    ...(form.value.from === 'pasted' && { key_set: parsed(form.value.keySet) }),
    ...text('name_claim', form.value.nameClaim),
    ...(words(form.value.origins).length > 0 && { origins: words(form.value.origins) }),
    ...text('client_id', form.value.client),
    ...text('client_secret', form.value.secret),
    ...(props.issuer?.algorithms && { algorithms: props.issuer.algorithms }),
    ...(props.issuer?.skew_seconds && { skew_seconds: props.issuer.skew_seconds }),
  }
}

function parsed(text: string): Record<string, never> {
  try {
    return JSON.parse(text) as Record<string, never>
  } catch {
    throw new Error('The key set is not JSON: paste all of it, from { to }')
  }
}

const tryOut = () => during(async () => void (verdict.value = await tryIssuer(settings(), token.value.trim())))
const keep = () =>
  during(async () => {
    await keepIssuer(form.value.id.trim(), settings(), props.issuer === null)
    emit('kept')
  })
const back = computed(() => pageLink(`/sign-in/${form.value.id || 'ID'}/back`))
</script>

<template>
  <form class="issuer" @submit.prevent="keep">
    <div class="fields">
      <label v-if="!issuer">Id <InputText v-model="form.id" size="small" placeholder="trust" fluid /></label>
      <label>Title <InputText v-model="form.title" size="small" placeholder="The Trust’s accounts" fluid /></label>
      <label
        >Issuer, as its tokens name it
        <InputText v-model="form.issuer" size="small" placeholder="https://accounts.example" fluid
      /></label>
      <label
        >Audience that tokens have to be for
        <InputText v-model="form.audience" size="small" placeholder="brindlemere-app" fluid
      /></label>
      <div class="field">
        <span id="keys-from">Its keys are</span>
        <Choice v-model="form.from" :options="sources" labelled-by="keys-from" />
      </div>
      <label v-if="form.from === 'address'"
        >Address of the key set
        <InputText v-model="form.address" size="small" placeholder="https://accounts.example/keys" fluid
      /></label>
      <label
        >Web pages that may send its tokens
        <InputText v-model="form.origins" size="small" placeholder="https://app.example" fluid
      /></label>
      <label
        >Claim with a person’s name
        <InputText v-model="form.nameClaim" size="small" placeholder="name, if it is not said" fluid
      /></label>
    </div>
    <label v-if="form.from === 'pasted'"
      >Key set <textarea v-model="form.keySet" rows="5" spellcheck="false" placeholder='{"keys": […]}'></textarea>
    </label>
    <fieldset>
      <legend>What people may do: the first rule that fits decides</legend>
      <ol>
        <li v-for="(r, n) in rules" :key="n">
          If
          <InputText
            v-model="r.claim"
            size="small"
            placeholder="a claim; empty for everyone"
            :aria-label="`Claim of rule ${n + 1}`"
          />
          has
          <InputText
            v-model="r.has"
            size="small"
            placeholder="anything"
            :aria-label="`What the claim of rule ${n + 1} has`"
          />
          they are
          <Choice v-model="r.role" :options="roles" :label="`Role of rule ${n + 1}`" />
          of
          <InputText
            v-model="r.collections"
            size="small"
            placeholder="all collections"
            :aria-label="`Collections of rule ${n + 1}`"
          />
          <Button
            size="small"
            text
            severity="secondary"
            :aria-label="`Remove rule ${n + 1}`"
            :disabled="rules.length === 1"
            @click="rules.splice(n, 1)"
          >
            <Icon name="x" />
          </Button>
        </li>
      </ol>
      <Button
        label="Add a rule"
        size="small"
        text
        @click="rules.unshift({ claim: '', has: '', role: 'editor', collections: '', rest: {} })"
      />
    </fieldset>
    <details :open="form.client !== ''">
      <summary>Let people sign in to the console through it</summary>
      <p class="soft"
        >Register the console with the issuer, and let it send people back to <code>{{ back }}</code>.</p
      >
      <div class="fields">
        <label>Client id <InputText v-model="form.client" size="small" fluid /></label>
        <label
          >Client secret, if it has one
          <InputText
            v-model="form.secret"
            size="small"
            type="password"
            autocomplete="off"
            :placeholder="issuer?.has_client_secret ? 'stays as it is' : ''"
            fluid
        /></label>
      </div>
    </details>
    <fieldset>
      <legend>Try it on a token before you keep it</legend>
      <label class="unseen" :for="`token-${form.id}`">Token</label>
      <textarea
        :id="`token-${form.id}`"
        v-model="token"
        rows="2"
        spellcheck="false"
        placeholder="Paste a token of one of its people"
      ></textarea>
      <Button label="Try" size="small" severity="secondary" :disabled="!token.trim() || busy" @click="tryOut" />
      <div v-if="verdict" class="verdict" role="status" data-part="verdict">
        <p v-if="verdict.taken"
          ><b>It is taken.</b> Rule {{ (verdict.rule ?? 0) + 1 }} decides: {{ verdict.name }} is
          {{ /^[aeiou]/.test(verdict.role ?? '') ? 'an' : 'a' }} {{ verdict.role }}. {{ verdict.can }}</p
        >
        <p v-else><b>It is not taken:</b> {{ verdict.reason }}.</p>
        <pre v-if="verdict.claims">{{ JSON.stringify(verdict.claims, null, 2) }}</pre>
      </div>
    </fieldset>
    <Message v-if="problem" severity="error">{{ problem }}</Message>
    <div class="ways">
      <Button type="submit" :label="issuer ? 'Keep the changes' : 'Add the issuer'" size="small" :disabled="busy" />
      <Button label="Cancel" severity="secondary" size="small" @click="emit('close')" />
    </div>
  </form>
</template>

<style scoped>
.issuer {
  flex-basis: 100%;
  display: flex;
  flex-direction: column;
  gap: 0.9rem;
  margin: 0.6rem 0;
  padding: 0.9rem 1rem;
  border: 1px solid var(--rule);
  border-radius: 10px;
  background: var(--card);
}
.fields {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(16rem, 1fr));
  gap: 0.8rem;
}
label,
.field {
  display: flex;
  flex-direction: column;
  gap: 0.25rem;
}
fieldset {
  margin: 0;
  padding: 0;
  border: 0;
}
legend {
  padding: 0;
  margin-bottom: 0.3rem;
  font-weight: 600;
}
ol {
  margin: 0;
  padding-inline-start: 1.4rem;
}
li {
  padding-block: 0.2rem;
}
li > * {
  vertical-align: middle;
  max-width: 11.5rem;
}
textarea {
  width: 100%;
  padding: 0.4rem 0.6rem;
  border: 1px solid var(--rule);
  border-radius: 6px;
  background: var(--page);
  color: inherit;
  font-family: ui-monospace, 'DejaVu Sans Mono', monospace;
  font-size: 0.85rem;
}
.soft {
  margin-block: 0.3rem;
}
.verdict {
  margin-top: 0.6rem;
  padding: 0.6rem 0.8rem;
  border-inline-start: 4px solid var(--p-primary-color);
  background: var(--page);
}
pre {
  margin: 0.4rem 0 0;
  max-height: 14rem;
  overflow: auto;
  font-size: 0.85rem;
}
.ways {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem;
}
summary {
  cursor: pointer;
}
</style>
