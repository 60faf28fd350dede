import '@idlebeacon/map'
import { definePreset } from '@primeuix/themes'
import Aura from '@primeuix/themes/aura'
import 'primeicons/primeicons.css'
import PrimeVue from 'primevue/config'
import { createApp } from 'vue'
import App from './App.vue'
import './style.css'

const theme = definePreset(Aura, {
  semantic: {
    primary: Object.fromEntries([50, 100, 200, 300, 400, 500, 600, 700, 800, 900, 950].map((n) => [n, `{cyan.${n}}`])),
    focusRing: { width: '3px', style: 'solid', color: '{red.600}', offset: '1px' },
  },
})

createApp(App)
  .use(PrimeVue, { theme: { preset: theme, options: { darkModeSelector: 'system' } } })
  .mount('#app')
