import { Tooltip } from 'antd'
import { useEffect, useState } from 'react'
import { Problem, type Usage } from '../api/client'

const letters: Record<string, string> = {
  active: 'A',
  registered: 'M',
  offered: 'O',
  released: 'R',
  expired: 'E',
  abandoned: '!',
  free: 'F',
  reserved: 'K',
  serving: 'S',
  held: 'H',
  draining: 'D',
  good: '✓',
  bad: '!',
  warn: '!',
  unknown: '?',
}

/** How long tables are cut into pages. */
export const paged = { pageSize: 50, hideOnSinglePage: true }

/** A status as a shape with a letter, and the word. */
export function StatusMark({ status, word }: { status: string; word?: string }) {
  return (
    <span className={'status ' + status}>
      <i aria-hidden>{letters[status] ?? '·'}</i>
      {word ?? status}
    </span>
  )
}

export const Mono = ({ children }: { children: React.ReactNode }) => <span className="mono">{children}</span>

/** A value that may fold, at blanks, commas and ranges, and never inside an address or a name. */
export function Folding({ text }: { text: string }) {
  const parts = text.split(text.includes(', ') ? /(?<=, )/ : /(?<=[,\s;/])|(?<=\d)(?=-\d)/)
  return (
    <span className="mono folding">
      {parts.map((p, i) => (
        <span key={i}>
          <span className={p.length > 40 ? 'long' : ''}>{p}</span>
          <wbr />
        </span>
      ))}
    </span>
  )
}

function relative(ms: number): string {
  const s = Math.abs(ms) / 1000
  let text: string
  if (s < 2) return 'now'
  if (s < 120) text = `${Math.floor(s)} s`
  else if (s < 7200) text = `${Math.round(s / 60)} min`
  else if (s < 172800) text = `${Math.round(s / 3600)} h`
  else text = `${Math.round(s / 86400)} d`
  return ms < 0 ? text + ' ago' : 'in ' + text
}

/** A moment relative to now, with the exact time on hover. */
export function When({ at }: { at: string | null | undefined }) {
  const [now, setNow] = useState(() => Date.now())
  useEffect(() => {
    const t = setInterval(() => setNow(Date.now()), 5000)
    return () => clearInterval(t)
  }, [])
  if (!at) return <span>never</span>
  const t = new Date(at)
  return (
    <Tooltip title={t.toLocaleString()}>
      <time dateTime={at} style={{ whiteSpace: 'nowrap' }}>
        {relative(t.getTime() - now)}
      </time>
    </Tooltip>
  )
}

/** Whatever has pools. */
interface Used {
  usage: Usage
}

/** A number of addresses; what is more than a number holds, as in an IPv6 subnet, in words. */
export const count = (n: number) => (n >= Number.MAX_SAFE_INTEGER ? 'over 9×10¹⁵' : n.toLocaleString('en'))

export const usedShare = (s: Used) =>
  s.usage.size === 0 ? 0 : 1 - Math.min(s.usage.headroom + s.usage.partner, s.usage.size) / s.usage.size

/** How much of a scope's pools cannot be handed out now. */
export function UseBar({ scope }: { scope: Used }) {
  if (scope.usage.size === 0) return <span className="quiet">no pool</span>
  const share = usedShare(scope)
  const kind = share >= 0.98 ? 'full' : share >= 0.85 ? 'warn' : ''
  return (
    <Tooltip title={`${count(scope.usage.headroom)} of ${count(scope.usage.size)} left`}>
      <span className="use">
        <span className={'bar ' + kind} role="img" aria-label={`${Math.round(share * 100)} % used`}>
          <span style={{ width: `${share * 100}%` }} />
        </span>
        <span className="num">{Math.round(share * 100)} %</span>
      </span>
    </Tooltip>
  )
}

export function Failure({ error, onLine }: { error: unknown; onLine?: (line: number) => void }) {
  if (!error) return null
  const faults = error instanceof Problem ? error.faults : []
  return (
    <div className="note bad" role="alert">
      {(error as Error).message}
      {faults.length > 0 && (
        <ul className="faults">
          {faults.map((f, i) => (
            <li key={i}>
              {f.location && (
                <button className="asLink" onClick={() => onLine?.(Number(f.location!.match(/\d+/)?.[0] ?? 1))}>
                  {f.location}
                </button>
              )}{' '}
              {f.message}
            </li>
          ))}
        </ul>
      )}
    </div>
  )
}

/** What to do first, where there is nothing to show. */
export function Empty({ children }: { children: React.ReactNode }) {
  return (
    <div style={{ padding: '28px 16px', textAlign: 'center' }} className="quiet">
      {children}
    </div>
  )
}

export const plural = (n: number, one: string, many = one + 's') => `${n.toLocaleString('en')} ${n === 1 ? one : many}`
