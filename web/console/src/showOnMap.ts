import type { Box } from '@idlebeacon/map'
import { shallowRef } from 'vue'

/** What another page asks the map page to show when it comes up. */
export const asked = shallowRef<Box | null>(null)
