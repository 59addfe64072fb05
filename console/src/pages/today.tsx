import { useQuery } from '@tanstack/react-query'
import { Link } from 'react-router'
import {
  get,
  items,
  type Alert,
  type AuditReport,
  type Capacity,
  type Pair,
  type Revision,
  type Status,
  type Unserved,
} from '../api/client'
import { Empty, Failure, Mono, plural, When } from '../parts/bits'
import { Trend } from '../parts/trend'
import { Severity } from '../parts/findings'
import { RunsOut, urgency, siteDay } from '../parts/forecast'
import { summarise } from '../columns/changes'

type How = 'good' | 'warn' | 'bad'

const shape = { good: '●', warn: '◆', bad: '▲' }

/** One of the morning's questions, with its verdict and a way in. */
function Asked({
  id,
  question,
  how,
  answer,
  to,
  more,
  children,
}: {
  id?: string
  question: string
  how: How
  answer: React.ReactNode
  to: string
  more: string
  children: React.ReactNode
}) {
  return (
    <section className={'panel asked ' + how}>
      <h2>{question}</h2>
      <p className="answer" id={id}>
        <i aria-hidden>{shape[how]}</i>
        {answer}
      </p>
      {children}
      <footer>
        <Link to={to}>{more}</Link>
      </footer>
    </section>
  )
}

function Served({ s }: { s: Status }) {
  const unserved = useQuery({ queryKey: ['unserved', 'all'], queryFn: () => items<Unserved>('/unserved') })
  const without = unserved.data ?? []
  const reasons = new Map<string, Unserved[]>()
  for (const u of without) reasons.set(u.reason, [...(reasons.get(u.reason) ?? []), u])
  const bad = without.length > 0 || !s.healthy
  return (
    <Asked
      id="verdict"
      question="Is every client being served?"
      how={bad ? 'bad' : s.scopes === 0 ? 'warn' : 'good'}
      answer={
        s.scopes === 0
          ? 'Nothing is served yet'
          : without.length === 0
            ? 'Every client that asked was served'
            : `${plural(without.length, 'client')} ${without.length === 1 ? 'goes' : 'go'} without an address`
      }
      to={s.scopes === 0 ? '/plan?add=1' : '/unserved'}
      more={s.scopes === 0 ? 'Define a first scope' : 'Who goes without, and why'}
    >
      <span className="quiet">
        {s.served24h.toLocaleString('en')} requests acknowledged in the last day, {s.served5m.toLocaleString('en')} in
        the last five minutes; {plural(s.active, 'active lease')} in {plural(s.scopes, 'scope')}.
      </span>
      <table className="rows">
        <tbody>
          {[...reasons.values()]
            .sort((a, b) => b.length - a.length)
            .slice(0, 3)
            .map((list) => (
              <tr key={list[0].reason}>
                <td className="num" style={{ width: 30, paddingRight: 10 }}>
                  <b>{list.length}</b>
                </td>
                <td>
                  <Link to={'/unserved?reason=' + list[0].reason}>
                    {list[0].reason === 'wrong-network' ? 'asked for an address of another link' : list[0].text}
                  </Link>
                </td>
                <td className="quiet" style={{ textAlign: 'right' }}>
                  {[...new Set(list.map((u) => u.scope || u.relay || u.interface))]
                    .filter(Boolean)
                    .slice(0, 2)
                    .join(', ')}
                </td>
              </tr>
            ))}
        </tbody>
      </table>
    </Asked>
  )
}

function RunningOut() {
  const list = useQuery({
    queryKey: ['capacity', 'scope', ''],
    queryFn: () => items<Capacity>('/capacity', { kind: 'scope' }),
    refetchInterval: 30000,
  })
  const all = (list.data ?? []).filter((c) => c.size > 0)
  const full = all.filter((c) => urgency(c) === 0)
  const soon = all.filter((c) => urgency(c) === 1)
  const first = soon[0]?.forecast?.date
  return (
    <Asked
      question="Where will addresses run out, and when?"
      how={full.length ? 'bad' : soon.length ? 'warn' : 'good'}
      answer={
        full.length
          ? `${full.map((c) => c.name).join(', ')}: nothing left`
          : first
            ? `${soon[0].name}, about ${siteDay(first, 'long')}`
            : 'Nowhere, as far as can be seen'
      }
      to="/capacity"
      more="Every pool, with its forecast"
    >
      {all.length === 0 && <Empty>No scope is served yet.</Empty>}
      <table className="rows">
        <tbody>
          {all.slice(0, 4).map((c) => (
            <tr key={c.name}>
              <td>
                <Link to={'/capacity/' + c.name}>{c.name}</Link>
              </td>
              <td>
                <Trend list={c.trend} size={c.size} label={`Daily peaks of ${c.name}`} />
              </td>
              <td className="num" style={{ width: 46 }}>
                {Math.round(100 * c.share)} %
              </td>
              <td style={{ paddingLeft: 12 }}>
                <RunsOut of={c} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </Asked>
  )
}

function Paired({ s }: { s: Status }) {
  const pair = useQuery({ queryKey: ['pair'], queryFn: () => get<Pair>('/pair') })
  const p = pair.data
  if (!p?.formed)
    return (
      <Asked
        question="Is the pair sound?"
        how="warn"
        answer="This server is alone"
        to="/pair"
        more="Form a pair, so that another server carries on"
      >
        <span className="quiet">
          If it dies, clients keep their addresses until their leases end, and new ones get none.
        </span>
      </Asked>
    )
  return (
    <Asked
      question="Is the pair sound?"
      how={p.takeover ? 'good' : 'bad'}
      answer={p.takeover ? `${s.partner} would carry on, right now` : `${s.partner} would not carry on`}
      to="/pair"
      more="Both servers, side by side"
    >
      {p.reasons.map((r) => (
        <div key={r}>{r}</div>
      ))}
      <dl className="facts">
        <dt>{p.own.name}</dt>
        <dd>
          {p.own.role}, {p.own.state}
        </dd>
        <dt>{p.partner?.name}</dt>
        <dd>
          {p.partner?.role}, {p.partner?.state || 'not heard'}
        </dd>
        <dt>Not yet told</dt>
        <dd>{plural(p.exposed, 'lease')}</dd>
      </dl>
      {p.relays
        .filter((r) => r.warning)
        .slice(0, 2)
        .map((r) => (
          <div key={r.address}>◆ {r.warning}</div>
        ))}
    </Asked>
  )
}

function Wrong() {
  const report = useQuery({
    queryKey: ['audit', 'today'],
    queryFn: () => get<AuditReport>('/audit'),
    refetchInterval: 30000,
    retry: false,
  })
  const r = report.data
  const open = (r?.findings ?? []).filter((f) => !f.known)
  return (
    <Asked
      question="What is wrong or odd in the plan and in the lease table?"
      how={r?.troubles ? 'bad' : r?.warnings ? 'warn' : 'good'}
      answer={
        !r
          ? 'The first audit is on its way'
          : open.length === 0
            ? 'Nothing that anybody does not know of'
            : `${plural(r.troubles, 'trouble')}, ${plural(r.warnings, 'warning')}, ${plural(r.notes, 'note')}`
      }
      to="/audit"
      more="Every finding, with its mend"
    >
      <table className="rows">
        <tbody>
          {open.slice(0, 4).map((f) => (
            <tr key={f.key}>
              <td style={{ width: 82, verticalAlign: 'top' }}>
                <Severity of={f.severity} />
              </td>
              <td className="clipped" title={f.text}>
                <Link to={'/audit?search=' + encodeURIComponent(f.subject)}>{f.title}</Link>{' '}
                <span className="quiet">{f.subject.replace(/^(host|clients)\b ?/, '')}</span>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </Asked>
  )
}

function Changed({ now }: { now: string }) {
  const revisions = useQuery({
    queryKey: ['revisions', 'today'],
    queryFn: () => items<Revision>('/plan/revisions', { limit: 40 }),
  })
  const list = revisions.data ?? []
  const lately = list.filter((r) => Date.parse(now) - Date.parse(r.at) < 86400000)
  return (
    <Asked
      question="What changed since yesterday, by whom?"
      how="good"
      answer={
        lately.length === 0
          ? 'Nothing'
          : `${plural(lately.length, 'change')} by ${[...new Set(lately.map((r) => r.author))].slice(0, 3).join(', ')}`
      }
      to="/changes"
      more="All changes; each can be undone there"
    >
      <table className="rows">
        <tbody>
          {list.slice(0, 4).map((r) => (
            <tr key={r.number}>
              <td className="num" style={{ width: 34, paddingRight: 10, verticalAlign: 'top' }}>
                <Link to={'/changes?open=' + r.number}>{r.number}</Link>
              </td>
              <td className="clipped" title={[summarise(r), r.reason].filter(Boolean).join(' — ')}>
                {summarise(r)}
                {r.reason && <span className="quiet"> — {r.reason}</span>}
              </td>
              <td className="quiet" style={{ textAlign: 'right', paddingLeft: 10, verticalAlign: 'top' }}>
                <When at={r.at} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </Asked>
  )
}

function Health({ s }: { s: Status }) {
  const alerts = useQuery({ queryKey: ['alerts'], queryFn: () => items<Alert>('/alerts'), refetchInterval: 10000 })
  const host = s.warnings.filter((w) => w.code === 'host')
  const standing = (alerts.data ?? []).filter((a) => !a.silenced)
  return (
    <section
      className={
        'panel asked ' + (standing.some((a) => a.severity === 'trouble') ? 'bad' : standing.length ? 'warn' : 'good')
      }
    >
      <h2>Alerts and this server</h2>
      <p className="answer">
        <i aria-hidden>{standing.length ? '▲' : '●'}</i>
        {standing.length ? plural(standing.length, 'alert stands', 'alerts stand') : 'No alert stands'}
      </p>
      <table className="rows">
        <tbody>
          {standing.slice(0, 2).map((a) => (
            <tr key={a.key}>
              <td style={{ width: 82 }}>
                <Severity of={a.severity} />
              </td>
              <td className="clipped" title={a.text}>
                {a.text}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <dl className="facts">
        <dt>Database</dt>
        <dd>{s.healthy ? <>● records every lease before it is given</> : <b>▲ {s.problem}</b>}</dd>
        {s.wires.map((w) => (
          <span key={w.name} style={{ display: 'contents' }}>
            <dt>Interface {w.name}</dt>
            <dd>
              <Mono>{w.addresses.join(' ') || 'no address'}</Mono> {w.link ? `link ${w.link}` : '▲ no scope for it yet'}
            </dd>
          </span>
        ))}
        {host.length > 0 && (
          <>
            <dt>This host</dt>
            <dd>
              ▲ {plural(host.length, 'thing')} to mend: {host.map((w) => w.subject).join(', ')}.{' '}
              <Link to="/plan/~trials">Look</Link>
            </dd>
          </>
        )}
        <dt>Relayed clients</dt>
        <dd>
          heard on <Mono>{s.dhcp4}</Mono>, since <When at={s.started} />
        </dd>
      </dl>
      <footer>
        <Link to="/audit/alerts">Alerts, and where they go</Link>
      </footer>
    </section>
  )
}

/** The morning's five questions, answered on one page. */
export default function Today() {
  const status = useQuery({ queryKey: ['status'], queryFn: () => get<Status>('/status') })
  const s = status.data
  if (!s) return <Failure error={status.error} />
  return (
    <>
      <h1 style={{ marginBottom: 8 }}>Today</h1>
      <div className="grid two today">
        <Served s={s} />
        <RunningOut />
        <Paired s={s} />
        <Wrong />
        <Changed now={s.now} />
        <Health s={s} />
      </div>
    </>
  )
}
