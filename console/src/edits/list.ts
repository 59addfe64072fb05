import type { Edit, List } from '../api/client'
import { textLines } from './text'

/** A list as its form has it. */
export interface Fields {
  name?: string
  entries?: string
  note?: string
}

/** What the form of a list begins with. */
export const fieldsOf = (old?: List): Fields =>
  old ? { name: old.name, entries: old.entries.join('\n'), note: old.note } : {}

/** The edit that makes the plan say what the form says. */
export function editOf(v: Fields, old?: List): Edit | null {
  if (!v.name) return null
  return {
    op: old ? 'edit' : 'add',
    kind: 'list',
    name: old?.name ?? v.name,
    list: { name: old ? v.name : undefined, entries: textLines(v.entries), note: v.note ?? '' },
  }
}
