import { useQuery } from '@tanstack/react-query'
import { Link } from 'react-router'
import { get, items, type Revision, type Scope, type Status, type Unserved } from '../api/client'
import { Empty, Failure, Mono, plural, usedShare, UseBar, When } from '../parts/bits'
import { summarise } from './changes'

const where: Record<string, string> = {
  'pool-empty': '/unserved?reason=pool-empty',
  abandoned: '/leases?status=abandoned',
  crowd: '/unserved?reason=too-many-new',
  'other-server': '/unserved/listening',
  'silent-relay': '/plan/~links',
  'trial-failed': '/plan/~trials',
  preflight: '/plan/~trials',
  pair: '/pair',
  'pair-relay': '/pair',
  'pair-conflict': '/pair',
}

/** The morning's questions, answered on one page. */
export default function Today() {
  const status = useQuery({ queryKey: ['status'], queryFn: () => get<Status>('/status') })
  const unserved = useQuery({ queryKey: ['unserved', 'all'], queryFn: () => items<Unserved>('/unserved') })
  const scopes = useQuery({
    queryKey: ['scopes', 'fullest'],
    queryFn: () => items<Scope>('/scopes', { sort: 'fullest', limit: 200 }),
  })
  const revisions = useQuery({
    queryKey: ['revisions', 'today'],
    queryFn: () => items<Revision>('/plan/revisions', { limit: 6 }),
  })
  const s = status.data
  if (!s) return <Failure error={status.error} />
  const without = unserved.data ?? []
  const reasons = new Map<string, Unserved[]>()
  for (const u of without) reasons.set(u.reason, [...(reasons.get(u.reason) ?? []), u])
  const full = (scopes.data ?? []).filter((v) => v.usage.size > 0 && v.mode !== 'held')
  const [host, warnings] = [
    s.warnings.filter((w) => w.code === 'preflight'),
    s.warnings.filter((w) => w.code !== 'preflight'),
  ]
  const tight = full.filter((v) => usedShare(v) >= 0.85)
  return (
    <>
      <div className="head">
        <div>
          <h1>Today</h1>
          <span className="quiet">
            {plural(s.active, 'active lease')} in {plural(s.scopes, 'scope')}
          </span>
        </div>
      </div>
      <div className="grid">
        <div className={'panel verdict' + (without.length || !s.healthy ? ' bad' : '')}>
          <span className="mark" aria-hidden>
            {without.length || !s.healthy ? '▲' : '●'}
          </span>
          <div>
            <h1 id="verdict">
              {s.scopes === 0
                ? 'Nothing is served yet'
                : without.length === 0
                  ? 'Every client that asked was served'
                  : `${plural(without.length, 'client')} ${without.length === 1 ? 'goes' : 'go'} without an address`}
            </h1>
            {s.scopes === 0 ? (
              <Link to="/plan?add=1">Define a first scope</Link>
            ) : (
              <span>
                {s.served24h.toLocaleString('en')} requests acknowledged in the last day,{' '}
                {s.served5m.toLocaleString('en')} in the last five minutes.
                {tight.length > 0 && (
                  <>
                    {' '}
                    {plural(tight.length, 'scope')} {tight.length === 1 ? 'is' : 'are'} nearly full:{' '}
                    {tight.slice(0, 4).map((v, i) => (
                      <span key={v.name}>
                        {i > 0 && ', '}
                        <Link to={'/plan/' + v.name}>{v.name}</Link>
                      </span>
                    ))}
                    {tight.length > 4 && ', …'}.
                  </>
                )}
              </span>
            )}
          </div>
        </div>
        {warnings.length > 0 && (
          <section className="panel">
            <h2>Look at this</h2>
            {warnings.map((w) => (
              <div className="warning" key={w.code + w.subject}>
                <span className="status warn">
                  <i aria-hidden>!</i>
                </span>
                <div>
                  {w.text}
                  {w.text.endsWith('.') ? '' : '.'} <span className="quiet">{w.mend}</span>{' '}
                  {where[w.code] && <Link to={where[w.code]}>Look</Link>}
                </div>
              </div>
            ))}
          </section>
        )}
        <div className="grid two">
          <section className="panel">
            <h2>Who goes without, and why</h2>
            {without.length === 0 ? (
              <Empty>Nobody. Clients that ask and get nothing would be listed here.</Empty>
            ) : (
              <table style={{ width: '100%', borderSpacing: '0 3px' }}>
                <tbody>
                  {[...reasons.values()]
                    .sort((a, b) => b.length - a.length)
                    .map((list) => (
                      <tr key={list[0].reason}>
                        <td className="num" style={{ width: 34, paddingRight: 10 }}>
                          <b>{list.length}</b>
                        </td>
                        <td>
                          <Link to={'/unserved?reason=' + list[0].reason}>
                            {list[0].reason === 'wrong-network' ? 'asked for an address of another link' : list[0].text}
                          </Link>
                        </td>
                        <td className="quiet">
                          {[...new Set(list.map((u) => u.scope || u.relay || u.interface))]
                            .filter(Boolean)
                            .slice(0, 3)
                            .join(', ')}
                        </td>
                        <td className="quiet" style={{ textAlign: 'right' }}>
                          <When at={list[0].last} />
                        </td>
                      </tr>
                    ))}
                </tbody>
              </table>
            )}
          </section>
          <section className="panel">
            <h2>Fullest scopes</h2>
            {full.length === 0 ? (
              <Empty>
                No scope is served yet. <Link to="/plan?add=1">Define one.</Link>
              </Empty>
            ) : (
              <table style={{ width: '100%', borderSpacing: '0 3px' }}>
                <tbody>
                  {full.slice(0, 7).map((v) => (
                    <tr key={v.name}>
                      <td style={{ width: '30%' }}>
                        <Link to={'/plan/' + v.name}>{v.name}</Link>
                      </td>
                      <td>
                        <UseBar scope={v} />
                      </td>
                      <td className="num quiet" style={{ width: 90 }}>
                        {v.usage.headroom.toLocaleString('en')} left
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
            )}
          </section>
          <section className="panel">
            <h2>What changed</h2>
            {(revisions.data ?? []).length === 0 ? (
              <Empty>The plan has not been changed yet.</Empty>
            ) : (
              <table style={{ width: '100%', borderSpacing: '0 3px' }}>
                <tbody>
                  {revisions.data!.map((r) => (
                    <tr key={r.number}>
                      <td className="num" style={{ width: 40, paddingRight: 10 }}>
                        <Link to={'/changes?open=' + r.number}>{r.number}</Link>
                      </td>
                      <td>
                        {summarise(r)}
                        {r.reason && <span className="quiet"> — {r.reason}</span>}
                      </td>
                      <td className="quiet">{r.author}</td>
                      <td className="quiet" style={{ textAlign: 'right', paddingLeft: 12 }}>
                        <When at={r.at} />
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
            )}
          </section>
          <section className="panel">
            <h2>Health</h2>
            <dl className="facts">
              <dt>Database</dt>
              <dd>{s.healthy ? <>● records every lease before it is given</> : <b>▲ {s.problem}</b>}</dd>
              <dt>Recorded</dt>
              <dd>
                {s.recorded.toLocaleString('en')} leases in {s.commits.toLocaleString('en')} commits since the start
              </dd>
              <dt>Relayed clients</dt>
              <dd>
                heard on <Mono>{s.dhcp4}</Mono>
              </dd>
              {s.wires.map((w) => (
                <span key={w.name} style={{ display: 'contents' }}>
                  <dt>Interface {w.name}</dt>
                  <dd>
                    <Mono>{w.addresses.join(' ') || 'no address'}</Mono>{' '}
                    {w.link ? `link ${w.link}` : '▲ no scope for it yet'}
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
              <dt>Up</dt>
              <dd>
                since <When at={s.started} />, version {s.version}
              </dd>
            </dl>
          </section>
        </div>
      </div>
    </>
  )
}
