<script setup lang="ts">
import dialog from '@primeuix/themes/aura/dialog'
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import Message from 'primevue/message'
import { ref } from 'vue'
import { useRoute } from 'vue-router'
import { useSession } from '../stores/session'
import { addToTheme } from '../theme'
import { useDoing } from './useDoing'

// Who the user is and what that one may; or signing in, by a key or through an issuer.
addToTheme({ dialog })
const store = useSession()
const route = useRoute()
const key = ref('')
const { busy, problem, during } = useDoing(store.problem)

const enter = () => during(() => store.enter(key.value.trim()))
const wayTo = (href: string) => `${href}?to=${encodeURIComponent(route.fullPath)}`
</script>

<template>
  <Dialog
    v-model:visible="store.asking"
    modal
    dismissable-mask
    class="account"
    :header="store.guest ? 'Sign in' : 'Your account'"
  >
    <Message v-if="problem" severity="error" class="problem">{{ problem }}</Message>
    <template v-if="store.guest">
      <template v-if="store.session?.issuers.length">
        <p v-for="way in store.session.issuers" :key="way.href">
          <Button as="a" :href="wayTo(way.href)" :label="`Sign in with ${way.title}`" />
        </p>
        <p class="soft">Or with an access key:</p>
      </template>
      <form @submit.prevent="enter">
        <label for="sign-in-key">Access key</label>
        <InputText
          id="sign-in-key"
          v-model="key"
          type="password"
          autocomplete="current-password"
          placeholder="ibkey_…"
          autofocus
          fluid
        />
        <p class="soft"
          >Whoever runs this service can make a key for you. Its first one is in the file <code>owner.key</code> of the
          data directory.</p
        >
        <Button type="submit" label="Sign in" :disabled="!key.trim() || busy" />
      </form>
    </template>
    <template v-else-if="store.session">
      <p
        ><b dir="auto">{{ store.session.name }}</b> · {{ store.session.role }}</p
      >
      <p>{{ store.session.can }}</p>
      <div class="ways">
        <Button label="Sign out" :disabled="busy" @click="during(() => store.leave(false))" />
        <Button
          label="Sign out everywhere"
          severity="secondary"
          title="In every browser where the same key or person is signed in"
          :disabled="busy"
          @click="during(() => store.leave(true))"
        />
      </div>
    </template>
  </Dialog>
</template>

<style>
.account {
  width: min(30rem, calc(100vw - 2rem));
}
.account .p-dialog-content > * + *,
.account form > * + * {
  margin-top: 0.8rem;
}
.account label {
  display: block;
}
.account form > label + * {
  margin-top: 0.3rem;
}
.account a {
  text-decoration: none;
}
.account .ways {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem;
}
</style>
