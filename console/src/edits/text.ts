// What forms keep as lines of text, and what edits need of it.

/** Options as lines of name=value, and back to what an edit needs. */
export const optionLines = (options: { name: string; value: string }[]) =>
  options.map((o) => `${o.name}=${o.value}`).join('\n')

export function optionEdit(text: string | undefined, had: { name: string }[]): Record<string, string> {
  const out: Record<string, string> = {}
  for (const o of had) out[o.name] = ''
  for (const line of (text ?? '').split('\n')) {
    const at = line.indexOf('=')
    if (at > 0) out[line.slice(0, at).trim()] = line.slice(at + 1).trim()
  }
  return out
}

export const textLines = (text?: string) =>
  (text ?? '')
    .split(/[\n,]+/)
    .map((l) => l.trim())
    .filter(Boolean)

export const lines = (text?: string) =>
  (text ?? '')
    .split(/[\n;]+/)
    .map((l) => l.trim())
    .filter(Boolean)
