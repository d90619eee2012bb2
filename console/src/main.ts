import 'vuetify/styles'

import { createApp } from 'vue'

import App from './App.vue'
import { i18n } from './i18n'
import { router } from './router'
import { vuetify } from './vuetify'

createApp(App).use(vuetify).use(router).use(i18n).mount('#app')
