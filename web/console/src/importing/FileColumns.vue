<script setup lang="ts">
import type { Inspection } from '../api/imports'
import Choice from '../parts/Choice.vue'
import { roles, types as allTypes } from './words'

// The columns of a file: what each is, and its first rows.
defineProps<{
  found: Inspection
  types: Readonly<Record<string, string>>
  properties: readonly string[]
  disabled: boolean
}>()
const emit = defineEmits<{ role: [column: string, role: string]; type: [column: string, type: string] }>()

/** Returns the value of a property, as the table shows it. */
function cell(f: { properties?: unknown }, property: string): unknown {
  return (f.properties as Record<string, unknown> | undefined)?.[property] ?? ''
}
</script>

<template>
  <div class="scroll" tabindex="0" role="region" aria-label="Columns of the file">
    <table>
      <thead>
        <tr>
          <th scope="col">Column</th>
          <th scope="col">What it is</th>
          <th scope="col">Type</th>
          <th scope="col">Such as</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="c in found.columns" :key="c.name">
          <th scope="row">{{ c.name }}</th>
          <td>
            <Choice
              v-if="found.format === 'csv'"
              :model-value="c.role ?? ''"
              :options="roles"
              :label="`What ${c.name} is`"
              :disabled="disabled"
              @update:model-value="(role) => emit('role', c.name, role)"
            />
            <template v-else>property</template>
          </td>
          <td>
            <Choice
              v-if="!c.role && !found.format.startsWith('geojson')"
              :model-value="types[c.name] ?? c.type ?? ''"
              :options="allTypes"
              :label="`Type of ${c.name}`"
              :disabled="disabled"
              @update:model-value="(type) => emit('type', c.name, type)"
            />
            <template v-else-if="!c.role">{{ c.type }}</template>
          </td>
          <td class="samples" dir="auto">{{ c.samples?.join(' · ') }}</td>
        </tr>
      </tbody>
    </table>
  </div>
  <details class="rows">
    <summary>The first rows</summary>
    <div class="scroll" tabindex="0" role="region" aria-label="First rows of the file">
      <table>
        <thead>
          <tr>
            <th v-for="p in properties" :key="p" scope="col">{{ p }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(f, i) in found.features.slice(0, 8)" :key="i">
            <td v-for="p in properties" :key="p" class="samples" dir="auto">{{ cell(f, p) }}</td>
          </tr>
        </tbody>
      </table>
    </div>
  </details>
</template>

<style scoped>
.scroll {
  overflow: auto;
  max-height: 320px;
  border: 1px solid var(--rule);
  border-radius: 6px;
}
table {
  width: 100%;
  border-collapse: collapse;
  font-size: 0.88rem;
}
th,
td {
  padding: 0.2rem 0.5rem;
  text-align: start;
  border-bottom: 1px solid var(--rule);
  white-space: nowrap;
}
thead th {
  border-bottom: 0;
  box-shadow: inset 0 -1px var(--rule); /* a border would stay behind */
  position: sticky;
  top: 0;
  z-index: 1;
  background: var(--card);
}
.samples {
  max-width: 220px;
  overflow: hidden;
  text-overflow: ellipsis;
  color: var(--soft);
}
.rows {
  margin-top: 0.6rem;
}
</style>
