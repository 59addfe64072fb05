import type { Defaults, Edit } from '../api/client'
import { optionEdit, optionLines } from './text'

/** The defaults as their form has them. */
export interface Fields {
  lease?: string
  identity?: 'identifier' | 'hardware'
  options?: string
  listening?: boolean
  note?: string
}

/** What the form of the defaults begins with. */
export const fieldsOf = (old: Defaults): Fields => ({
  lease: old.lease,
  identity: old.identity,
  options: optionLines(old.options),
  listening: old.listening,
  note: old.note,
})

/** The edit that makes the plan say what the form says. */
export const editOf = (v: Fields, old: Defaults): Edit => ({
  op: 'edit',
  kind: 'defaults',
  name: '',
  defaults: {
    lease: v.lease ?? '',
    identity: v.identity,
    options: optionEdit(v.options, old.options),
    listening: v.listening ?? false,
    note: v.note ?? '',
  },
})
