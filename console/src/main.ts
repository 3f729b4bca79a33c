import { createPinia } from 'pinia'
import { createApp } from 'vue'
import App from './App.vue'
import { router } from './router'
import { useElement } from './theme/element'
import './theme/theme.css'

const app = createApp(App)
app.use(createPinia())
app.use(router)
useElement(app)
app.mount('#app')
