<script setup lang="ts">
import confirmdialog from '@primeuix/themes/aura/confirmdialog'
import dialog from '@primeuix/themes/aura/dialog'
import ConfirmDialog from 'primevue/confirmdialog'
import { useConfirming } from '../parts/useConfirming'
import { addToTheme } from '../theme'

// Asks before something is removed.
addToTheme({ confirmdialog, dialog })
useConfirming()
</script>

<template>
  <ConfirmDialog />
</template>
