import { createRouter, createWebHistory } from 'vue-router'

import CallsPage from './pages/CallsPage.vue'
import DepotPage from './pages/DepotPage.vue'
import FindPage from './pages/FindPage.vue'
import ModelPage from './pages/ModelPage.vue'
import PoolsPage from './pages/PoolsPage.vue'
import TryPage from './pages/TryPage.vue'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', component: PoolsPage },
    { path: '/calls', component: CallsPage },
    { path: '/depot', component: DepotPage },
    { path: '/depot/:model/:variant', component: ModelPage, props: (route) => ({ name: `${route.params.model}/${route.params.variant}` }) },
    { path: '/find', component: FindPage },
    { path: '/try', component: TryPage },
    { path: '/:rest(.*)', redirect: '/' },
  ],
})
