<script setup lang="ts">
import select from '@primeuix/themes/aura/select'
import virtualscroller from '@primeuix/themes/aura/virtualscroller'
import Select from 'primevue/select'
import { addToTheme } from '../theme'

addToTheme({ select, virtualscroller })
</script>

<template>
  <Select />
</template>
