import { Link } from 'react-router'
import type { Inside as Of } from '../api/client'
import { plural, When } from './bits'

const wide = 272
const high = 64

/** Who is still in a scope that is to be empty, and how their leases end if nobody renews. */
export function Inside({ of, scope, until }: { of: Of; scope: string; until?: string }) {
  const x = (i: number) => (i / Math.max(of.left.length - 1, 1)) * wide
  const y = (n: number) => high - (n / Math.max(of.clients, 1)) * high
  const path = of.left
    .map((n, i) => (i ? `H${x(i).toFixed(1)} V${y(n).toFixed(1)}` : `M0 ${y(n).toFixed(1)}`))
    .join(' ')
  return (
    <>
      <h2 style={{ marginTop: 16 }}>Still inside</h2>
      {of.clients === 0 ? (
        <p>Nobody is inside any more. The scope can be removed.</p>
      ) : (
        <p>
          <Link to={`/leases?status=active&scope=${encodeURIComponent(scope)}`}>{plural(of.clients, 'client')}</Link>
          {of.last && (
            <>
              ; if nobody renews, the last lease ends <When at={of.last} />
            </>
          )}
          {until && (
            <>
              ; the drain ends <When at={until} />
            </>
          )}
          {of.endless > 0 && <>; {of.endless.toLocaleString('en')} never end</>}.
        </p>
      )}
      {of.left.length > 1 && (
        <svg
          width="100%"
          viewBox={`0 -2 ${wide} ${high + 4}`}
          role="img"
          aria-label={`${of.left[0]} leases now, each step of ${of.step} fewer, ${of.left[of.left.length - 1]} at the end`}
        >
          <path d={`${path} V${high} H0 Z`} fill="var(--gather)" />
          <path d={path} fill="none" stroke="var(--warn)" strokeWidth="1.6" />
          <line x1="0" x2={wide} y1={high} y2={high} stroke="var(--line)" />
        </svg>
      )}
    </>
  )
}
