import { createApp } from 'vue'
import './element-plus'
import './look.css'
import App from './App.vue'
import { router } from './router'

createApp(App).use(router).mount('#console')
