<script setup lang="ts">
import { type Look, shapeURL } from '@idlebeacon/map'

defineProps<{ look: Look }>()
</script>

<template>
  <span class="mark" :style="{ background: look.colour }"
    ><img :src="shapeURL(look, look.ink)" alt="" width="12" height="12"
  /></span>
</template>

<style scoped>
.mark {
  display: inline-grid;
  place-items: center;
  width: 20px;
  height: 20px;
  border-radius: 5px;
  flex: none;
}
img {
  display: block;
}
</style>
