/** What a form says of how a change in preparation is made. */
export interface Making {
  at?: string // as the browser writes a local time; empty: now
  down?: boolean
  within?: number | null // minutes
  above?: number | null
}

/** The rule by which a change is undone by itself. */
export const undoOf = (v: Making) => (v.within ? { within: `${v.within}m`, above: v.above ?? 0 } : undefined)

/** The moment at which a change is made, or undefined for now. */
export function dueOf(v: Making) {
  const at = v.at ? new Date(v.at) : undefined
  if (!at || Number.isNaN(at.getTime())) return undefined
  return { at: at.toISOString(), runDown: v.down ?? true, undo: undoOf(v) }
}
