import '@idlebeacon/map'
import { definePreset } from '@primeuix/themes'
import Aura from '@primeuix/themes/aura'
import 'primeicons/primeicons.css'
import PrimeVue from 'primevue/config'
import { createApp } from 'vue'
import { createRouter, createWebHistory } from 'vue-router'
import App from './App.vue'
import DataPage from './DataPage.vue'
import MapPage from './MapPage.vue'
import './style.css'

const theme = definePreset(Aura, {
  semantic: {
    primary: Object.fromEntries([50, 100, 200, 300, 400, 500, 600, 700, 800, 900, 950].map((n) => [n, `{cyan.${n}}`])),
    focusRing: { width: '3px', style: 'solid', color: '{red.600}', offset: '1px' },
    // Darker than the theme has them, so that text on them and in them can be read.
    colorScheme: {
      light: {
        primary: {
          color: '{primary.700}',
          contrastColor: '#ffffff',
          hoverColor: '{primary.800}',
          activeColor: '{primary.900}',
        },
      },
    },
  },
  components: {
    message: {
      colorScheme: {
        light: { warn: { color: '{yellow.900}' }, success: { color: '{green.800}' }, error: { color: '{red.800}' } },
      },
    },
  },
})

const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', component: MapPage },
    { path: '/data', component: DataPage },
  ],
})

createApp(App)
  .use(router)
  .use(PrimeVue, { theme: { preset: theme, options: { darkModeSelector: 'system' } } })
  .mount('#app')
