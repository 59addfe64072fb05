import { useQuery } from '@tanstack/react-query'
import { Segmented } from 'antd'
import { useState } from 'react'
import { get, type PairStates } from '../api/client'
import { Failure, When } from './bits'

const wide = 1000
const high = 22

/** How a state is drawn: what serves as it should is solid, the rest can be told apart without colour. */
const look = (state: string) =>
  state === 'normal'
    ? 'good'
    : state === 'stopped'
      ? 'off'
      : state === 'partner-down' || state === 'communications-interrupted'
        ? 'warn'
        : 'bad'

const day = (t: number) => new Date(t).toLocaleDateString(undefined, { day: 'numeric', month: 'short' })
const clock = (t: number) => new Date(t).toLocaleTimeString(undefined, { hour: '2-digit', minute: '2-digit' })

/** The states of both servers as a time line. */
export function States() {
  const [hours, setHours] = useState(1)
  const q = useQuery({
    queryKey: ['pair', 'states', hours],
    queryFn: () => get<PairStates>('/pair/states', { hours }),
    placeholderData: (old) => old,
    refetchInterval: 10000,
  })
  const from = q.data ? Date.parse(q.data.from) : 0
  const span = q.data ? Date.parse(q.data.to) - from : 1
  const x = (t: string) => ((Date.parse(t) - from) / span) * wide
  return (
    <section className="panel">
      <h2>
        States{' '}
        <Segmented
          size="small"
          value={hours}
          onChange={setHours}
          options={[
            { value: 1, label: 'an hour' },
            { value: 24, label: 'a day' },
            { value: 720, label: '30 days' },
          ]}
        />
      </h2>
      <Failure error={q.error} />
      {q.data?.servers.map((s) => (
        <div className="states" key={s.name}>
          <b>{s.name}</b>
          {s.known ? (
            <svg
              viewBox={`0 0 ${wide} ${high}`}
              preserveAspectRatio="none"
              role="img"
              aria-label={'States of ' + s.name}
            >
              <defs>
                <pattern id="stripes" width="8" height="8" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
                  <rect width="5" height="8" className="warn" />
                </pattern>
                <pattern id="dots" width="7" height="7" patternUnits="userSpaceOnUse">
                  <rect width="4" height="4" className="bad" />
                </pattern>
              </defs>
              {s.spans.map((p) => (
                <rect
                  key={p.from}
                  className={look(p.state)}
                  x={x(p.from)}
                  y={look(p.state) === 'off' ? 8 : 0}
                  width={Math.max(x(p.to) - x(p.from), 1.5)}
                  height={look(p.state) === 'off' ? 6 : high}
                >
                  <title>{`${p.state}, ${clock(Date.parse(p.from))} to ${clock(Date.parse(p.to))}`}</title>
                </rect>
              ))}
            </svg>
          ) : (
            <span className="quiet">cannot be asked now</span>
          )}
        </div>
      ))}
      <div className="states axis" aria-hidden>
        <span />
        <span className="quiet">
          {[0, 1, 2, 3, 4].map((n) => (
            <span key={n}>{(hours > 24 ? day : clock)(from + (span * n) / 4)}</span>
          ))}
        </span>
      </div>
      <div className="legend">
        <span>
          <i className="key good" /> normal
        </span>
        <span>
          <i className="key warn" /> serves without the other
        </span>
        <span>
          <i className="key bad" /> finding together
        </span>
        <span>
          <i className="key off" /> stopped
        </span>
      </div>
      <details>
        <summary>As a table</summary>
        <table className="plain">
          <tbody>
            {q.data?.servers.flatMap((s) =>
              s.spans.map((p) => (
                <tr key={s.name + p.from}>
                  <td>{s.name}</td>
                  <td>{p.state}</td>
                  <td>
                    <When at={p.from} />
                  </td>
                  <td>
                    <When at={p.to} />
                  </td>
                </tr>
              )),
            )}
          </tbody>
        </table>
      </details>
    </section>
  )
}
