import { Button, type TableColumnsType } from 'antd'
import { Link as Goto } from 'react-router'
import type { Link, Relay } from '../api/client'
import { Mono, StatusMark, When } from '../parts/bits'

export const linkColumns = (): TableColumnsType<Link> => [
  {
    title: 'Link',
    render: (_, l) => (
      <>
        <b>{l.name}</b>
        {l.note && <div className="quiet">{l.note}</div>}
      </>
    ),
  },
  { title: 'Interfaces', render: (_, l) => l.interfaces.join(', ') },
  { title: 'Relays', render: (_, l) => <Mono>{l.relays.join(' ')}</Mono> },
  {
    title: 'Scopes',
    render: (_, l) =>
      l.scopes.map((s, i) => (
        <span key={s}>
          {i > 0 && ', '}
          <Goto to={'/plan/' + s} onClick={(e) => e.stopPropagation()}>
            {s}
          </Goto>
        </span>
      )),
  },
  {
    title: 'State',
    render: (_, l) =>
      l.listening ? (
        <StatusMark status="held" word="listened to" />
      ) : l.standAside ? (
        <StatusMark status="draining" word="stands aside" />
      ) : (
        <StatusMark status="good" word="answered" />
      ),
  },
]

export const relayColumns = (accept: (r: Relay) => void, forget: (r: Relay) => void): TableColumnsType<Relay> => [
  { title: 'Relay', render: (_, r) => <Mono>{r.address}</Mono> },
  { title: 'Link', dataIndex: 'link', render: (l) => l || <span className="quiet">none knows it</span> },
  { title: 'Messages', align: 'right', render: (_, r) => r.count.toLocaleString('en') },
  { title: 'Last', render: (_, r) => (r.last ? <When at={r.last} /> : 'not since the start') },
  {
    title: 'Usual gap',
    align: 'right',
    render: (_, r) => (r.count > 1 ? (r.gap < 1 ? 'under 1 s' : `${Math.round(r.gap)} s`) : ''),
  },
  {
    title: 'State',
    render: (_, r) =>
      r.silent ? (
        <StatusMark status="bad" word="silent: unusually quiet" />
      ) : !r.last ? (
        <StatusMark status="held" word="not heard" />
      ) : r.named ? (
        <StatusMark status="good" word="named by the plan" />
      ) : r.found ? (
        <StatusMark status="warn" word="found by a probe, not named" />
      ) : (
        <StatusMark status="warn" word="heard, not named" />
      ),
  },
  {
    title: '',
    align: 'right',
    render: (_, r) =>
      !r.named && (
        <>
          <Button size="small" type="link" disabled={!r.link} onClick={() => accept(r)}>
            Accept
          </Button>
          <Button size="small" type="link" onClick={() => forget(r)}>
            Forget
          </Button>
        </>
      ),
  },
]
