import { createPinia } from 'pinia'
import PrimeVue from 'primevue/config'
import ToastService from 'primevue/toastservice'
import { createApp } from 'vue'
import App from './App.vue'
import { router } from './router'
import { useSession } from './stores/session'
import './style.css'
import { theme } from './theme'

const app = createApp(App).use(createPinia())

// What is shown depends on who sees it.
void useSession()
  .begin()
  .then(() =>
    app
      .use(router)
      .use(PrimeVue, { theme: { preset: theme, options: { darkModeSelector: '.dark' } } })
      .use(ToastService)
      .mount('#app'),
  )
