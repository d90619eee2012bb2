import { onMounted, ref } from 'vue'

import { asRefused, depot, type Refused, type Variant } from '../api/client'

/** The depot's list, loaded when the page opens and again on demand. */
export function useDepot() {
  const variants = ref<Variant[]>([])
  const loading = ref(true)
  const problem = ref<Refused | null>(null)

  async function refresh() {
    try {
      variants.value = await depot()
      problem.value = null
    } catch (error) {
      problem.value = asRefused(error)
    } finally {
      loading.value = false
    }
  }

  onMounted(refresh)
  return { variants, loading, problem, refresh }
}
