import type { Edit } from '../api/client'
import { editOf, nameFor } from './reservation'

/** A client that was chosen in a list, to act on. */
export interface Chosen {
  address: string
  hardware: string
  hostname: string
  scope: string
  /** Whether it has an active lease. */
  active: boolean
  /** The name of its reservation, or '' where it is known only that there is one. */
  reservation?: string
}

/** The edits that keep for clients the addresses that they have, each under a name of its own. */
export function reservations(chosen: Chosen[]): Edit[] {
  const taken = new Set<string>()
  return chosen
    .filter((c) => c.active && c.reservation === undefined && c.hardware)
    .map((c) => {
      const own = nameFor(c.hostname, c.hardware)
      const name = taken.has(own) ? nameFor('', c.hardware) : own
      taken.add(name)
      return editOf({ name, hardware: c.hardware, scope: c.scope, address: c.address })!
    })
}

/** The edits that remove the reservations of clients. */
export const removals = (chosen: Chosen[]): Edit[] =>
  chosen.filter((c) => c.reservation).map((c) => ({ op: 'remove', kind: 'reservation', name: c.reservation! }))
