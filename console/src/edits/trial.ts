import type { Edit, Trial } from '../api/client'

/** A trial as its form has it. */
export interface Fields {
  name?: string
  scope?: string
  hardware?: string
  vendor?: string
  circuit?: string
  every?: string
  note?: string
}

/** What the form of a trial begins with. */
export const fieldsOf = (old?: Trial): Fields => (old ? { ...old } : {})

/** The edit that makes the plan say what the form says. */
export function editOf(v: Fields, old?: Trial): Edit | null {
  if (!v.name || !v.scope) return null
  return {
    op: old ? 'edit' : 'add',
    kind: 'trial',
    name: old?.name ?? v.name,
    trial: {
      name: old ? v.name : undefined,
      scope: v.scope,
      hardware: v.hardware || undefined,
      vendor: v.vendor ?? '',
      circuit: v.circuit ?? '',
      every: v.every ?? '',
      note: v.note ?? '',
    },
  }
}
