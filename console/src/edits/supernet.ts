import type { Edit, Supernet } from '../api/client'
import { optionEdit, optionLines } from './text'

/** A supernet as its form has it. */
export interface Fields {
  name?: string
  prefix?: string
  lease?: string
  identity?: string
  options?: string
  note?: string
  warnUsed?: number | null
  warnHeadroom?: number | null
  warnDays?: number | null
}

/** What the form of a supernet begins with. */
export const fieldsOf = (old?: Supernet): Fields =>
  old
    ? {
        name: old.name,
        prefix: old.prefix,
        lease: old.lease ?? '',
        identity: old.identity ?? '',
        options: optionLines(old.options),
        note: old.note,
        warnUsed: old.thresholds.used || null,
        warnHeadroom: old.thresholds.headroom || null,
        warnDays: old.thresholds.days || null,
      }
    : {}

/** The edit that makes the plan say what the form says. */
export function editOf(v: Fields, old?: Supernet): Edit | null {
  if (!v.name || !v.prefix) return null
  return {
    op: old ? 'edit' : 'add',
    kind: 'supernet',
    name: old?.name ?? v.name,
    supernet: {
      name: old ? v.name : undefined,
      prefix: v.prefix,
      lease: v.lease ?? '',
      identity: (v.identity ?? '') as '' | 'identifier' | 'hardware',
      options: optionEdit(v.options, old?.options ?? []),
      warnUsed: v.warnUsed ?? 0,
      warnHeadroom: v.warnHeadroom ?? 0,
      warnDays: v.warnDays ?? 0,
      note: v.note ?? '',
    },
  }
}
