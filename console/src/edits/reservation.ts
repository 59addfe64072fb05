import type { Edit } from '../api/client'

/** By what a client is known. */
export type By = 'hardware' | 'identifier' | 'duid' | 'circuit'
/** A reservation as its form has it. */
export interface Wanted {
  name: string
  hardware: string
  by?: By
  scope: string
  address?: string
  /** Further addresses and prefixes of the same client, of either family, with blanks or commas between. */
  also?: string
  hostname?: string
  insist?: boolean
  /** The client is to move to another address than it has, which has to be named. */
  elsewhere?: boolean
}

/** A name for the reservation of a client: its host name, or its hardware address. */
export const nameFor = (hostname: string, hardware: string) =>
  (hostname || 'client-' + hardware)
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, '-')
    .replace(/^-+/, '')
    .slice(0, 60)
    .replace(/-+$/, '') || 'client'

/** The edit that makes the reservation. */
export function editOf(v: Partial<Wanted> | undefined): Edit | null {
  if (!v?.name || !v.hardware || !v.scope) return null
  return {
    op: 'add',
    kind: 'reservation',
    name: v.name,
    reservation: {
      [v.by ?? 'hardware']: v.hardware,
      scope: v.scope,
      address: v.address || undefined,
      hostname: v.hostname || undefined,
      insist: v.insist || undefined,
    },
  }
}

/** The edits that make the reservation, and one for whatever else its client is to have. */
export function editsOf(v: Partial<Wanted> | undefined): Edit[] | null {
  const first = editOf(v)
  if (!v || !first) return null
  const names = [first.name]
  const more = (v.also ?? '').split(/[\s,;]+/).filter((a) => a !== '')
  return [
    first,
    ...more.map((address): Edit => {
      const base = first.name + (address.includes('/') ? '-net' : address.includes(':') ? '-v6' : '-v4')
      let name = base
      for (let n = 2; names.includes(name); n++) name = `${base}-${n}`
      names.push(name)
      return {
        op: 'add',
        kind: 'reservation',
        name,
        reservation: { [v.by ?? 'hardware']: v.hardware, address, hostname: v.hostname || undefined },
      }
    }),
  ]
}
