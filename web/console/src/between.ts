import type { Box } from '@idlebeacon/map'
import { shallowRef } from 'vue'

// What one page asks another to show when that comes up.

/** What the map page is to show. */
export const askedBox = shallowRef<Box | null>(null)

/** The item that the data page is to show in its table. */
export const askedItem = shallowRef<{ collection: string; id: string } | null>(null)
