import type { Edit, OwnField } from '../api/client'

/** What a form says of fields of one's own. */
export interface Own {
  own?: Record<string, string | number | null | undefined>
}

/** An edit with what the form says of fields of one's own; one that was emptied is taken away. */
export function withOwn(edit: Edit | null, v: Own | undefined): Edit | null {
  if (!edit || !v?.own) return edit
  const fields: Record<string, string> = {}
  for (const [name, value] of Object.entries(v.own)) if (value !== undefined) fields[name] = String(value ?? '')
  if (Object.keys(fields).length === 0) return edit
  const body = (edit as unknown as Record<string, object | undefined>)[edit.kind]
  return { ...edit, [edit.kind]: { ...body, fields } }
}

/** A field of one's own as its form has it. */
export interface Fields {
  name?: string
  type?: OwnField['type']
  choices?: string[]
  on?: string[]
  note?: string
}

/** What the form of a field begins with. */
export const fieldsOf = (old?: OwnField): Fields =>
  old ? { name: old.name, type: old.type, choices: old.choices, on: old.on, note: old.note } : { type: 'text' }

/** The edit that makes the plan say what the form says. */
export function editOf(v: Fields, old?: OwnField): Edit | null {
  if (!v.name || !v.type || (v.type === 'choice' && !v.choices?.length)) return null
  return {
    op: old ? 'edit' : 'add',
    kind: 'field',
    name: old?.name ?? v.name,
    field: {
      type: v.type,
      choices: v.type === 'choice' ? (v.choices ?? []) : [],
      on: v.on ?? [],
      note: v.note ?? '',
    },
  }
}
