import { useQuery, useQueryClient } from '@tanstack/react-query'
import { Button, Modal, Table } from 'antd'
import { useState } from 'react'
import {
  call,
  get,
  items,
  type Pair,
  type PairComparison,
  type PairDone,
  type PairEvent,
  type PairScope,
  type PairServer,
} from '../api/client'
import { Empty, Failure, Mono, paged, plural, StatusMark, When } from '../parts/bits'
import { Invite, Join, KeptAside, Settle } from '../parts/pairforms'
import { States } from '../parts/states'
import { differenceColumns, shareColumns, hearingColumns } from '../columns/pair'

/** States in which a server serves as it should. */
const stateMark = (state: string | undefined) =>
  state === 'normal'
    ? 'good'
    : !state || state === 'recover' || state === 'potential-conflict' || state === 'resolution-interrupted'
      ? 'bad'
      : 'warn'

function Server({ of, looking, heard }: { of: PairServer; looking: boolean; heard: boolean }) {
  return (
    <section className={'panel server' + (looking ? ' here' : '')}>
      <h2>
        {of.name} <span className="quiet">{of.role}</span>
        {looking && <span className="tag">you are looking at this one</span>}
      </h2>
      <p className="state">
        {heard ? (
          <StatusMark status={stateMark(of.state)} word={of.state} />
        ) : (
          <StatusMark status="bad" word="not heard" />
        )}{' '}
        {of.since && heard && (
          <span className="quiet">
            <When at={of.since} />
          </span>
        )}
      </p>
      <dl className="facts">
        <dt>Updates owed</dt>
        <dd>{of.owed.toLocaleString('en')}</dd>
        <dt>Plan</dt>
        <dd>{of.revision ? 'revision ' + of.revision : 'not known'}</dd>
        {of.trouble && (
          <>
            <dt>Trouble</dt>
            <dd>{of.trouble}</dd>
          </>
        )}
      </dl>
    </section>
  )
}

/** An order is explained first, and given once that was read. */
function Order({ what, label, danger }: { what: string; label: string; danger?: boolean }) {
  const queries = useQueryClient()
  const [asked, setAsked] = useState<PairDone | null>(null)
  const [error, setError] = useState<unknown>(null)
  const order = async (confirm: boolean) => {
    setError(null)
    try {
      const done = await call<PairDone>('POST', '/pair/' + what, {}, { confirm })
      setAsked(done.done ? null : done)
      queries.invalidateQueries({ queryKey: ['pair'] })
    } catch (e) {
      setError(e)
    }
  }
  return (
    <>
      <Button danger={danger} onClick={() => order(false)}>
        {label}
      </Button>
      <Failure error={error} />
      <Modal
        open={asked !== null}
        title={label}
        okText="Go ahead"
        okButtonProps={{ danger: true }}
        onOk={() => order(true)}
        onCancel={() => setAsked(null)}
      >
        <p>{asked?.text}.</p>
      </Modal>
    </>
  )
}

function Operations({ pair }: { pair: Pair }) {
  const queries = useQueryClient()
  const [error, setError] = useState<unknown>(null)
  const [said, setSaid] = useState('')
  const act = async (path: string, body?: unknown) => {
    setError(null)
    try {
      const done = await call<Partial<PairDone>>('POST', '/pair/' + path, {}, body)
      setSaid(done.text ? done.text + '.' : '')
      queries.invalidateQueries({ queryKey: ['pair'] })
    } catch (e) {
      setError(e)
    }
  }
  const resting = pair.paused === pair.own.name
  return (
    <section className="panel">
      <h2>Operations</h2>
      <div className="filters">
        <Button onClick={() => act('pause', { on: !resting })}>
          {resting ? 'Serve again' : `Pause ${pair.own.name} for maintenance`}
        </Button>
        <Button disabled={pair.drill?.running} onClick={() => act('drill', { seconds: 60 })}>
          Drill: take {pair.own.name} out for a minute
        </Button>
        <Button onClick={() => act('rebalance')}>Split free addresses anew</Button>
        <Order what="down" label={`Declare ${pair.partner?.name} down`} danger />
        <Order what="leave" label="Leave the pair" danger />
      </div>
      {said && <p className="quiet">{said}</p>}
      <Failure error={error} />
      {pair.drill && (
        <p>
          <StatusMark
            status={pair.drill.running ? 'warn' : pair.drill.without ? 'bad' : 'good'}
            word={pair.drill.running ? 'drill' : 'last drill'}
          />{' '}
          {pair.drill.out} out since <When at={pair.drill.began} />: {plural(pair.drill.served, 'client')} served by the
          other, {pair.drill.without} without
          {pair.drill.served > 0 && `; the longest wait was ${pair.drill.longest.toFixed(2)} s`}.{' '}
          {pair.drill.running ? '' : pair.drill.verdict + '.'}
        </p>
      )}
      {pair.drill && pair.drill.clients.length > 0 && (
        <details>
          <summary>How long each waited</summary>
          <table className="plain">
            <tbody>
              {pair.drill.clients.map((c) => (
                <tr key={c.name + c.address}>
                  <td>{c.name}</td>
                  <td>
                    <Mono>{c.address}</Mono>
                  </td>
                  <td>{c.seconds === undefined ? 'asked the other server alone' : c.seconds.toFixed(2) + ' s'}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </details>
      )}
    </section>
  )
}

function Compare({ pair }: { pair: Pair }) {
  const [busy, setBusy] = useState(false)
  const [error, setError] = useState<unknown>(null)
  const [found, setFound] = useState<PairComparison | null>(null)
  const compare = async () => {
    setBusy(true)
    setError(null)
    try {
      setFound(await get<PairComparison>('/pair/compare'))
    } catch (e) {
      setError(e)
    }
    setBusy(false)
  }
  return (
    <section className="panel flush">
      <h2>
        Lease tables compared{' '}
        <Button size="small" loading={busy} onClick={compare} style={{ marginLeft: 8 }}>
          Compare now
        </Button>
      </h2>
      <Failure error={error} />
      {found && (
        <p style={{ padding: '0 14px' }}>
          {plural(found.leases, 'record')} in {found.seconds.toFixed(2)} s, {found.octets.toLocaleString('en')} octets
          over the wire:{' '}
          {found.differences.length === 0
            ? 'both know the same.'
            : plural(found.differences.length, 'difference') + '.'}
        </p>
      )}
      {found && found.differences.length > 0 && (
        <Table
          size="small"
          rowKey="address"
          dataSource={found.differences}
          pagination={paged}
          columns={differenceColumns(pair)}
        />
      )}
    </section>
  )
}

function Shares({ pair }: { pair: Pair }) {
  return (
    <section className="panel flush">
      <h2>Free addresses, by whose they are to give</h2>
      <div className="legend owners quiet">
        <span>
          <i style={{ background: 'var(--indigo)' }} />
          {pair.own.name}
        </span>
        <span>
          <i style={{ background: 'var(--teal)' }} />
          {pair.partner?.name}
        </span>
        <span>
          <i style={{ background: 'var(--ash)', opacity: 0.4 }} />
          active
        </span>
      </div>
      <Table<PairScope>
        size="small"
        rowKey="scope"
        dataSource={pair.scopes}
        pagination={paged}
        locale={{ emptyText: <Empty>No scope has a pool.</Empty> }}
        columns={shareColumns(pair)}
      />
    </section>
  )
}

/** Two servers side by side, and whether either would carry on for the other. */
export default function PairPage() {
  const q = useQuery({ queryKey: ['pair'], queryFn: () => get<Pair>('/pair'), refetchInterval: 2000 })
  const history = useQuery({
    queryKey: ['pair', 'history'],
    queryFn: () => items<PairEvent>('/pair/history', { limit: 30 }),
    refetchInterval: 5000,
  })
  const p = q.data
  if (!p) return <Failure error={q.error} />
  const other = p.partner
  return (
    <>
      <div className="head">
        <div>
          <h1>Pair</h1>
          <span className="quiet">
            {other
              ? `${p.mode === 'load-sharing' ? `Load sharing ${p.split}:${100 - p.split}` : 'Hot standby'}, lead time ${p.lead}` +
                (p.autoDown ? `, partner down after ${p.autoDown}` : '')
              : 'Two servers that back each other up: one plan, one lease table'}
          </span>
        </div>
      </div>
      <Failure error={q.error} />
      {!other ? (
        <div className="grid two">
          <Invite invited={p.invited} />
          <Join />
        </div>
      ) : (
        <div className="grid">
          <div className={'panel verdict' + (p.takeover ? '' : ' bad')}>
            <span className="mark" aria-hidden>
              {p.takeover ? '●' : '▲'}
            </span>
            <div>
              <h1 id="verdict">
                {p.takeover
                  ? `If ${p.own.name} died now, ${other.name} would carry on`
                  : `If ${p.own.name} died now, ${other.name} would not carry on`}
              </h1>
              {p.takeover ? (
                <span>
                  {p.exposed === 0
                    ? 'It knows every lease'
                    : `${plural(p.exposed, 'lease')} ${p.exposed === 1 ? 'is' : 'are'} on the way to it`}
                  {p.clock !== undefined && Math.abs(p.clock) > 1
                    ? `; clocks are ${Math.abs(p.clock)} s apart`
                    : '; clocks agree'}
                  .
                </span>
              ) : (
                <ul>
                  {p.reasons.map((r) => (
                    <li key={r}>{r}</li>
                  ))}
                </ul>
              )}
              {p.down && (
                <div>
                  {other.name} is taken to be down since <When at={p.down} />; its free addresses can be given here{' '}
                  <When at={p.claims} />.
                </div>
              )}
            </div>
          </div>
          <div className="grid two">
            <Server of={p.own} looking heard />
            <Server of={other} looking={false} heard={p.connected} />
          </div>
          <States />
          {p.plan === 'parted' ? <Settle pair={p} /> : <KeptAside />}
          {p.conflicts.length > 0 && (
            <section className="panel">
              <h2>Active for two clients</h2>
              {p.conflicts.map((c) => (
                <div className="warning" key={c.address}>
                  <StatusMark status="bad" word={c.address} /> stays with <Mono>{c.kept}</Mono>; <Mono>{c.other}</Mono>{' '}
                  has to go. <When at={c.at} />
                </div>
              ))}
            </section>
          )}
          <Shares pair={p} />
          <div className="grid two">
            <section className="panel flush">
              <h2>Relays, by who hears them</h2>
              <Table
                size="small"
                rowKey="address"
                dataSource={p.relays}
                pagination={paged}
                locale={{ emptyText: <Empty>No relay was heard yet.</Empty> }}
                columns={hearingColumns(p.own.name, other.name)}
              />
            </section>
            <section className="panel">
              <h2>What happened</h2>
              {(history.data ?? []).length === 0 && <Empty>Nothing yet.</Empty>}
              <ol className="timeline">
                {(history.data ?? []).slice(0, 14).map((e) => (
                  <li key={e.at + e.text}>
                    <span className="quiet">
                      <When at={e.at} />
                    </span>{' '}
                    {e.text}
                  </li>
                ))}
              </ol>
            </section>
          </div>
          <Operations pair={p} />
          <Compare pair={p} />
        </div>
      )}
    </>
  )
}
