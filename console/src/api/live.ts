import { useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { api } from './client'

/** Listens to the server's events and refreshes what they touch, at most once a second. */
export function useEvents(): boolean {
  const queries = useQueryClient()
  const [live, setLive] = useState(true)
  useEffect(() => {
    const stale = new Set<string>()
    const mark = (...keys: string[]) => keys.forEach((k) => stale.add(k))
    let source: EventSource | undefined
    const open = () => {
      source?.close()
      source = new EventSource(api + '/events')
      source.addEventListener('lease', () =>
        mark('leases', 'lease', 'scopes', 'scope', 'supernets', 'map', 'status', 'unserved', 'reservations'),
      )
      source.addEventListener('plan', () =>
        mark(
          'scopes',
          'scope',
          'supernets',
          'map',
          'status',
          'revisions',
          'reservations',
          'links',
          'defaults',
          'explain',
          'rules',
          'lists',
          'codebooks',
          'codes',
          'trials',
          'listening',
          'stale',
        ),
      )
      source.addEventListener('pair', () => mark('pair', 'status'))
      source.addEventListener('beat', () => mark('unserved', 'status'))
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
      for (const key of stale) queries.invalidateQueries({ queryKey: [key] })
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
