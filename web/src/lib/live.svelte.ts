import { changes } from './changes.svelte'

/** How long it waits to ask again when the service refused to say what changes, in milliseconds. */
const patience = 30_000

/**
 * Listens for what others do to the model and to drafts, and for checks that come to fail, and has the pages look again. A page
 * that is left, or hidden behind another, holds no connection. A connection that breaks
 * is made again by the browser; one that is refused is asked for again after a while.
 */
export function listen(): () => void {
  let events: EventSource | null = null
  let again = 0
  const open = () => {
    if (events || document.hidden) return
    events = new EventSource('/api/v1/events')
    events.addEventListener('revision', (event) => changes.heard(Number(event.data)))
    for (const topic of ['draft', 'check', 'request']) events.addEventListener(topic, () => changes.count++)
    events.addEventListener('error', () => {
      if (events?.readyState !== EventSource.CLOSED) return
      close()
      again = setTimeout(open, patience)
    })
  }
  const close = () => {
    clearTimeout(again)
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
