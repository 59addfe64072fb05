import type { Codebook, Edit } from '../api/client'

/** A codebook as its form has it; codes are lines such as "241 controller address list; meaning". */
export interface Fields {
  name?: string
  place?: 'message' | '43' | '125' | '17'
  classes?: string[]
  enterprise?: number
  codes?: string
  note?: string
}

/** "241 controller address list; meaning" as an option. */
function codeOf(line: string) {
  const [head, ...meaning] = line.split(';')
  const [code, name, ...type] = head.trim().split(/\s+/)
  return { code: Number(code), name: name ?? '', type: type.join(' '), meaning: meaning.join(';').trim() || undefined }
}

/** What the form of a codebook begins with. */
export const fieldsOf = (old?: Codebook): Fields =>
  old
    ? {
        name: old.name,
        place: old.place,
        classes: old.classes,
        enterprise: old.enterprise || undefined,
        note: old.note,
        codes: old.options.map((o) => `${o.code} ${o.name} ${o.type}${o.meaning ? '; ' + o.meaning : ''}`).join('\n'),
      }
    : { place: '43' }

/** The edit that makes the plan say what the form says. */
export function editOf(v: Fields, old?: Codebook): Edit | null {
  const put = (v.codes ?? '')
    .split('\n')
    .filter((l) => l.trim())
    .map(codeOf)
  if (!v.name || put.some((o) => !o.code || !o.name || !o.type)) return null
  return {
    op: old ? 'edit' : 'add',
    kind: 'codebook',
    name: old?.name ?? v.name,
    codebook: {
      place: v.place,
      classes: v.place === '43' ? (v.classes ?? []) : [],
      enterprise: v.place === '125' || v.place === '17' ? (v.enterprise ?? 0) : 0,
      put,
      drop: old?.options.filter((o) => !put.some((p) => p.code === o.code)).map((o) => o.code),
      note: v.note ?? '',
    },
  }
}
