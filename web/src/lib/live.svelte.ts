import { changes } from './changes.svelte'

/**
 * Listens for changes of the model that others make, and has the pages look again. A page
 * that is left, or hidden behind another, holds no connection.
 */
export function listen(): () => void {
  let events: EventSource | null = null
  const open = () => {
    if (events || document.hidden) return
    events = new EventSource('/api/v1/events')
    events.addEventListener('revision', (event) => changes.heard(Number(event.data)))
  }
  const close = () => {
    events?.close()
    events = null
  }
  const shown = () => (document.hidden ? close() : open())
  addEventListener('pagehide', close)
  addEventListener('pageshow', open)
  document.addEventListener('visibilitychange', shown)
  open()
  return () => {
    close()
    removeEventListener('pagehide', close)
    removeEventListener('pageshow', open)
    document.removeEventListener('visibilitychange', shown)
  }
}
