import { createApp } from 'vue'
import './element-plus'
import './look.css'
import App from './App.vue'
import { texts } from './language'
import { watchForTrouble } from './api/trouble'
import { router } from './router'

const app = createApp(App)
watchForTrouble(app, router)
app.use(texts).use(router).mount('#console')
