// What is asked for, by the first part of a query's key, and by which events it becomes old. A
// key that does not stand here is a mistake that the compiler finds.
import type { QueryClient } from '@tanstack/react-query'

/** What the server says that happened; a beat comes each few seconds. */
export type Happened = 'lease' | 'plan' | 'pair' | 'beat'

const topics = {
  act: [],
  alerts: ['plan'],
  audit: [],
  bring: [],
  capacity: ['plan'],
  codebooks: ['plan'],
  codes: ['plan'],
  defaults: ['plan'],
  exchanges: [],
  explain: ['plan'],
  fields: ['plan'],
  history: [],
  lease: ['lease', 'plan'],
  leases: ['lease'],
  links: ['plan'],
  listening: ['plan'],
  lists: ['plan'],
  map: ['lease', 'plan'],
  move: ['plan'],
  pair: ['pair'],
  preflight: ['plan'],
  prepared: ['plan'],
  preview: [],
  rehearsal: [],
  relays: ['plan'],
  reports: [],
  reservations: ['lease', 'plan'],
  revision: [],
  revisions: ['plan'],
  rules: ['plan'],
  scope: ['lease', 'plan'],
  scopes: ['lease', 'plan'],
  search: [],
  session: [],
  size: [],
  stale: ['plan'],
  status: ['lease', 'plan', 'pair', 'beat'],
  subnet: ['plan'],
  supernets: ['lease', 'plan'],
  sweep: [],
  trail: ['plan'],
  trials: ['plan'],
  try: [],
  unmet: ['plan'],
  unserved: ['lease', 'plan', 'beat'],
  variables: ['plan'],
  vendors: ['plan'],
} satisfies Record<string, Happened[]>

export type Topic = keyof typeof topics

declare module '@tanstack/react-query' {
  interface Register {
    queryKey: readonly [Topic, ...unknown[]]
  }
}

/** The topics that are old once something happened. */
export const touchedBy = (what: Happened): Topic[] =>
  (Object.keys(topics) as Topic[]).filter((t) => (topics[t] as Happened[]).includes(what))

/** Has all of some topics asked for anew, where it is shown. */
export function refresh(queries: QueryClient, old: Iterable<Topic>) {
  for (const topic of old) queries.invalidateQueries({ queryKey: [topic] })
}
