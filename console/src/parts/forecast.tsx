import { Tooltip } from 'antd'
import type { Capacity } from '../api/client'

/** A day of a site, whose time zone the moment bears: the browser's may be another. */
export const siteDay = (at: string, month: 'short' | 'long' = 'short') =>
  new Date(at.slice(0, 10)).toLocaleDateString('en-GB', { day: 'numeric', month, timeZone: 'UTC' })

/** How soon something runs out, from 0 (now) to 3 (not in sight). */
export function urgency(c: Capacity): number {
  if (c.size === 0) return 3
  if (c.used >= c.size || c.forecast?.verdict === 'out-now') return 0
  if (c.forecast?.verdict === 'runs-out') return 1
  if (c.forecast?.verdict === 'may-run-out') return 2
  return 3
}

/** When something runs out, in a few words; the whole on hover. */
export function RunsOut({ of: c }: { of: Capacity }) {
  if (c.size === 0) return <span className="quiet">no pool</span>
  const f = c.forecast
  if (urgency(c) === 0)
    return (
      <span className="status bad">
        <i aria-hidden>!</i>nothing left
      </span>
    )
  if (!f) return <span className="quiet">not looked at yet</span>
  const words = {
    'runs-out': `about ${f.date ? siteDay(f.date) : ''}`,
    'may-run-out': `perhaps from ${f.early ? siteDay(f.early) : ''}`,
    'not-before': `not before ${siteDay(f.until)}`,
    'not-enough-history': 'too little history',
    'out-now': 'nothing left',
  }[f.verdict]
  const kind = { 'runs-out': 'warn', 'may-run-out': 'unknown' }[f.verdict as string]
  return (
    <Tooltip title={f.text}>
      {kind ? (
        <span className={'status ' + kind}>
          <i aria-hidden>{kind === 'warn' ? '!' : '?'}</i>
          {words}
        </span>
      ) : (
        <span className="quiet">{words}</span>
      )}
    </Tooltip>
  )
}
