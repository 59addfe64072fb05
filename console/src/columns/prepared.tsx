import type { TableColumnsType } from 'antd'
import type { Prepared, PreparedEdit, RunDown } from '../api/client'
import { StatusMark, When } from '../parts/bits'
import { removal } from './cells'

/** How a change in preparation stands. */
export function State({ of: p }: { of: Prepared }) {
  if (p.watched)
    return (
      <>
        <StatusMark status="good" word={`made as revision ${p.watched.revision}`} />
        <div className="quiet">
          watched until <When at={p.watched.until} />
        </div>
      </>
    )
  if (p.failed) return <StatusMark status="bad" word="failed" />
  if (p.due)
    return (
      <>
        due <When at={p.due.at} />
      </>
    )
  return <>{p.approvals.length ? 'approved' : 'gathering'}</>
}

export const preparedColumns = (): TableColumnsType<Prepared> => [
  {
    title: 'Change',
    render: (_, p) => (
      <>
        <b>{p.name}</b>
        {p.note && <div className="quiet">{p.note}</div>}
      </>
    ),
  },
  { title: 'Edits', width: 80, align: 'right', render: (_, p) => p.count },
  {
    title: 'By',
    width: 200,
    render: (_, p) => p.makers.join(', '),
  },
  { title: 'Begun', width: 130, render: (_, p) => <When at={p.begun} /> },
  { title: 'State', width: 230, render: (_, p) => <State of={p} /> },
]

export const editColumns = (omit: (number: number) => void): TableColumnsType<PreparedEdit & { number: number }> => [
  { title: 'No.', dataIndex: 'number', width: 50, align: 'right' },
  {
    title: 'Edit',
    render: (_, e) => (
      <>
        {e.text}
        {e.fault && <div className="bad">Does not fit the plan any more: {e.fault}</div>}
        {e.meanwhile.map((m) => (
          <div className="quiet" key={m}>
            since it was made: {m}
          </div>
        ))}
      </>
    ),
  },
  { title: 'By', dataIndex: 'by', width: 110 },
  { title: 'When', width: 110, render: (_, e) => <When at={e.at} /> },
  removal((e) => omit(e.number), 'Omit'),
]

export const runDownColumns = (): TableColumnsType<RunDown> => [
  { title: 'Leases run down', dataIndex: 'scope' },
  { title: 'Lease time', dataIndex: 'lease', align: 'right' },
  { title: 'Shorter from', render: (_, r) => <When at={r.from} /> },
  { title: 'All renewed by', render: (_, r) => <When at={r.settled} /> },
]
