import { onScopeDispose, ref } from 'vue'

import { openEvents, type Status } from '../api/client'

/** The service's status as it changes; `live` is false while the service does not answer. */
export function useStatus() {
  const status = ref<Status | null>(null)
  const live = ref(false)
  const source = openEvents()
  source.onmessage = (event) => {
    status.value = JSON.parse(event.data)
    live.value = true
  }
  // The browser opens the stream again by itself.
  source.onerror = () => (live.value = false)
  onScopeDispose(() => source.close())
  return { status, live }
}
