import { onScopeDispose, ref } from 'vue'

import { asRefused, openEvents, type Status, statusNow } from '../api/client'

/** Pause before the stream is opened again, in milliseconds. */
const AGAIN = 2000

/**
 * The service's status as it changes; `live` is false while the service does not answer, and `refused` says why
 * there is no status at all.
 */
export function useStatus() {
  const status = ref<Status | null>(null)
  const live = ref(false)
  const refused = ref<ReturnType<typeof asRefused> | null>(null)
  let source: EventSource | null = null
  let timer: ReturnType<typeof setTimeout> | undefined

  function open() {
    source?.close()
    source = openEvents()
    source.onmessage = (event) => {
      status.value = JSON.parse(event.data)
      live.value = true
      refused.value = null
    }
    source.onerror = failed
  }

  // A stream tells nothing of why it ended: the service is asked, and the stream is opened again later.
  async function failed() {
    live.value = false
    source?.close()
    clearTimeout(timer)
    timer = setTimeout(open, AGAIN)
    try {
      await statusNow()
    } catch (error) {
      refused.value = asRefused(error)
    }
  }

  open()
  onScopeDispose(() => {
    clearTimeout(timer)
    source?.close()
  })
  return { status, live, refused }
}
