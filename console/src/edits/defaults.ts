import type { Defaults, Edit } from '../api/client'
import { optionEdit, optionLines } from './text'

/** The defaults as their form has them. */
export interface Fields {
  lease?: string
  identity?: 'identifier' | 'hardware'
  options?: string
  listening?: boolean
  note?: string
  warnUsed?: number | null
  warnHeadroom?: number | null
  warnDays?: number | null
}

/** What the form of the defaults begins with. */
export const fieldsOf = (old: Defaults): Fields => ({
  lease: old.lease,
  identity: old.identity,
  options: optionLines(old.options),
  listening: old.listening,
  note: old.note,
  warnUsed: old.thresholds.used || null,
  warnHeadroom: old.thresholds.headroom || null,
  warnDays: old.thresholds.days || null,
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
    warnUsed: v.warnUsed ?? 0,
    warnHeadroom: v.warnHeadroom ?? 0,
    warnDays: v.warnDays ?? 0,
    note: v.note ?? '',
  },
})
