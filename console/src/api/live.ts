import { useQueryClient } from '@tanstack/react-query'
import { createContext, useContext, useEffect, useState } from 'react'

export const LiveContext = createContext(true)
export const useLive = () => useContext(LiveContext)

/** Listens to the server's events and refreshes what they touch, at most once a second. */
export function useEvents(): boolean {
  const queries = useQueryClient()
  const [live, setLive] = useState(true)
  useEffect(() => {
    const stale = new Set<string>()
    const source = new EventSource('/api/events')
    const mark = (...keys: string[]) => keys.forEach((k) => stale.add(k))
    source.addEventListener('lease', () => mark('leases', 'lease', 'scopes', 'scope', 'map', 'status', 'unserved', 'reservations'))
    source.addEventListener('plan', () => mark('scopes', 'scope', 'map', 'status', 'revisions', 'reservations', 'links', 'defaults', 'explain'))
    source.addEventListener('beat', () => {
      setLive(true)
      mark('unserved', 'status')
    })
    source.onopen = () => setLive(true)
    source.onerror = () => setLive(false)
    const timer = setInterval(() => {
      for (const key of stale) queries.invalidateQueries({ queryKey: [key] })
      stale.clear()
    }, 1000)
    return () => {
      source.close()
      clearInterval(timer)
    }
  }, [queries])
  return live
}
