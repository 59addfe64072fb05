import type { Edit } from '../api/client'

type Fields = Record<string, unknown>

const same = (a: unknown, b: unknown) => JSON.stringify(a ?? null) === JSON.stringify(b ?? null)

/** What differs between two versions of an edit's fields; options and fields of one's own differ one by one. */
function differing(now: Fields, before: Fields): Fields {
  const out: Fields = {}
  for (const [key, value] of Object.entries(now)) {
    if (same(value, before[key])) continue
    out[key] = key === 'options' || key === 'fields' ? differing(value as Fields, (before[key] ?? {}) as Fields) : value
  }
  return out
}

/**
 * Leaves of an edit only what was touched since its form was opened, so that
 * what a colleague changed meanwhile is not put back.
 */
export function touched(edit: Edit | null, untouched: Edit | null): Edit | null {
  if (!edit || !untouched || edit.op !== 'edit') return edit
  const out = { ...edit } as unknown as Fields
  const before = untouched as unknown as Fields
  if (out[edit.kind] && before[edit.kind])
    out[edit.kind] = differing(out[edit.kind] as Fields, before[edit.kind] as Fields)
  return out as unknown as Edit
}
