<script setup lang="ts">
import Button from 'primevue/button'
import { ref, watch } from 'vue'
import type { StyleDocument } from '../api/styles'

// The whole style as its document.
const props = defineProps<{ draft: StyleDocument }>()
const emit = defineEmits<{ change: [next: StyleDocument] }>()

const text = ref('')
const problem = ref<string | null>(null)
watch(
  () => props.draft,
  (now) => {
    text.value = JSON.stringify(now, null, 2)
    problem.value = null
  },
  { immediate: true },
)

function apply(): void {
  try {
    emit('change', { default: {}, ...(JSON.parse(text.value) as StyleDocument) })
  } catch (e) {
    problem.value = `The document is not valid JSON: ${(e as Error).message}`
  }
}
</script>

<template>
  <textarea v-model="text" rows="14" spellcheck="false" aria-label="Style document" />
  <p v-if="problem" role="alert" class="problem">{{ problem }}</p>
  <Button label="Use this" size="small" severity="secondary" @click="apply" />
</template>

<style scoped>
.problem {
  color: var(--signal);
}
</style>
