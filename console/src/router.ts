import { createRouter, createWebHistory } from 'vue-router'

import { t } from './i18n'
import CallsPage from './pages/CallsPage.vue'
import DepotPage from './pages/DepotPage.vue'
import FindPage from './pages/FindPage.vue'
import ModelPage from './pages/ModelPage.vue'
import PoolsPage from './pages/PoolsPage.vue'
import TryPage from './pages/TryPage.vue'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', component: PoolsPage, meta: { title: 'pages.pools' } },
    { path: '/calls', component: CallsPage, meta: { title: 'pages.calls' } },
    { path: '/depot', component: DepotPage, meta: { title: 'pages.depot' } },
    { path: '/depot/:model/:variant', component: ModelPage, props: (route) => ({ name: `${route.params.model}/${route.params.variant}` }) },
    { path: '/find', component: FindPage, meta: { title: 'pages.find' } },
    { path: '/try', component: TryPage, meta: { title: 'pages.try' } },
    { path: '/:rest(.*)', redirect: '/' },
  ],
})

/** The title of the browser's tab: the page, or the model that it shows. */
router.afterEach((to) => {
  const { title } = to.meta
  const page = typeof title === 'string' ? t(title) : [to.params.model, to.params.variant].filter(Boolean).join('/')
  document.title = page ? `${page} · ${t('product')}` : t('product')
})
