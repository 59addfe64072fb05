import type { Edit, Link } from '../api/client'
import { textLines } from './text'

/** A link as its form has it. */
export interface Fields {
  name?: string
  interfaces?: string[]
  relays?: string
  listening?: boolean
  standAside?: boolean
  subnetSelection?: boolean
  wake?: boolean
  note?: string
}

/** What the form of a link begins with. */
export const fieldsOf = (old: Link): Fields => ({
  name: old.name,
  interfaces: old.interfaces,
  relays: old.relays.join('\n'),
  listening: old.listening,
  standAside: old.standAside,
  subnetSelection: old.subnetSelection,
  wake: old.wake,
  note: old.note,
})

/** The edit that makes the plan say what the form says. */
export const editOf = (v: Fields, old: Link): Edit => ({
  op: 'edit',
  kind: 'link',
  name: old.name,
  link: {
    name: v.name,
    interfaces: v.interfaces ?? [],
    relays: textLines(v.relays),
    listening: v.listening ?? false,
    standAside: v.standAside ?? false,
    subnetSelection: v.subnetSelection ?? false,
    wake: v.wake ?? false,
    note: v.note ?? '',
  },
})
