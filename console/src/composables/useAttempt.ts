import { ref } from 'vue'

import { asRefused, type Refused } from '../api/client'

/** Does something that may be refused; `busy` while it lasts, and the problem if there is one. */
export function useAttempt() {
  const busy = ref(false)
  const problem = ref<Refused | null>(null)

  async function attempt(what: () => Promise<unknown>) {
    busy.value = true
    problem.value = null
    try {
      await what()
    } catch (error) {
      problem.value = asRefused(error)
    } finally {
      busy.value = false
    }
  }

  return { busy, problem, attempt }
}
