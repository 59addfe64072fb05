import { useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { api } from './client'
import { refresh, touchedBy, type Topic } from './keys'

/** Listens to the server's events and refreshes what they touch, at most once a second. */
export function useEvents(): boolean {
  const queries = useQueryClient()
  const [live, setLive] = useState(true)
  useEffect(() => {
    const stale = new Set<Topic>()
    let source: EventSource | undefined
    const open = () => {
      source?.close()
      source = new EventSource(api + '/events')
      for (const what of ['lease', 'plan', 'pair', 'beat'] as const)
        source.addEventListener(what, () => touchedBy(what).forEach((t) => stale.add(t)))
      source.onopen = () => setLive(true)
      source.onerror = () => setLive(false)
    }
    // A page that the browser puts aside would keep its connection, of which a
    // browser has only six to a server.
    const close = () => source?.close()
    open()
    addEventListener('pagehide', close)
    addEventListener('pageshow', open)
    const timer = setInterval(() => {
      refresh(queries, stale)
      stale.clear()
    }, 1000)
    return () => {
      close()
      removeEventListener('pagehide', close)
      removeEventListener('pageshow', open)
      clearInterval(timer)
    }
  }, [queries])
  return live
}
