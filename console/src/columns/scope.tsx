import { Button, type TableColumnsType } from 'antd'
import type { Edit, Explanation, Reservation, Scope } from '../api/client'
import { removal } from './cells'
import { Folding, Mono, StatusMark } from '../parts/bits'

/** A change that is shown before it is made. */
export type Ask = { title: string; edits: Edit[]; leave?: boolean } | null

export const reservationColumns = (ask: (a: Ask) => void): TableColumnsType<Reservation> => [
  {
    title: 'Name',
    dataIndex: 'name',
    render: (n) => <b>{n}</b>,
    sorter: (a, b) => a.name.localeCompare(b.name),
  },
  { title: 'Address', dataIndex: 'address', render: (a) => <Mono>{a}</Mono> },
  { title: 'Client', dataIndex: 'client', render: (a) => <Mono>{a}</Mono> },
  { title: 'Host name', dataIndex: 'hostname' },
  {
    title: 'Now',
    dataIndex: 'status',
    render: (st, r) => (
      <>
        {r.holder && r.holder !== r.hardware ? (
          <StatusMark status="bad" word={'held by ' + r.holder} />
        ) : (
          <StatusMark status={st} word={st === 'free' ? 'never claimed' : st} />
        )}
      </>
    ),
  },
  {
    title: 'Options',
    render: (_, r) =>
      r.options.map((o) => (
        <div key={o.code}>
          {o.name} <Mono>{o.value}</Mono>
        </div>
      )),
  },
  removal((r) =>
    ask({
      title: `Remove reservation ${r.name}`,
      edits: [{ op: 'remove', kind: 'reservation', name: r.name }],
    }),
  ),
]

export const exclusionColumns = (
  scope: Scope,
  ask: (a: Ask) => void,
): TableColumnsType<Scope['exclusions'][number]> => [
  { title: 'Range', dataIndex: 'range', render: (r) => <Mono>{r}</Mono> },
  { title: 'Used by', dataIndex: 'user' },
  {
    title: '',
    align: 'right',
    render: (_, x) => (
      <Button
        size="small"
        type="link"
        danger
        onClick={() =>
          ask({
            title: `Take exclusion ${x.range} away`,
            edits: [{ op: 'edit', kind: 'scope', name: scope.name, scope: { removeExclusions: [x.range] } }],
          })
        }
      >
        Take away
      </Button>
    ),
  },
]

export const givenColumns = (
  set: (option: string, value: string, title: string) => void,
): TableColumnsType<Explanation['options'][number]> => [
  { title: 'Code', dataIndex: 'code', align: 'right', width: 60 },
  { title: 'Option', dataIndex: 'name' },
  { title: 'Value', dataIndex: 'value', render: (v) => <Folding text={v} /> },
  {
    title: 'Set in',
    render: (_, o) => (
      <>
        {o.level} {o.from}
      </>
    ),
  },
  {
    title: 'As sent',
    dataIndex: 'bytes',
    ellipsis: true,
    render: (b) => <span className="mono quiet">{b}</span>,
  },
  {
    title: '',
    align: 'right',
    render: (_, o) =>
      o.level === 'scope' && (
        <Button size="small" type="link" onClick={() => set(o.name, '', `Unset option ${o.name}`)}>
          Unset
        </Button>
      ),
  },
]

export const setColumns = (scope: Scope, ask: (a: Ask) => void): TableColumnsType<Scope['options'][number]> => [
  { title: 'Code', dataIndex: 'code', align: 'right', width: 60 },
  { title: 'Option set here', dataIndex: 'name' },
  { title: 'Value', dataIndex: 'value', render: (v) => <Folding text={v} /> },
  removal(
    (o) =>
      ask({
        title: `Unset option ${o.name}`,
        edits: [{ op: 'edit', kind: 'scope', name: scope.name, scope: { options: { [o.name]: '' } } }],
      }),
    'Unset',
  ),
]
