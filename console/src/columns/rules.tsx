import type { TableColumnsType } from 'antd'
import type { Edit, List, Rule } from '../api/client'
import { removal } from './cells'
import { Folding, When } from '../parts/bits'

const then = (r: Rule) =>
  [
    r.action === 'reserved' ? 'reserved clients only' : r.action,
    r.pool && 'pool ' + r.pool,
    r.lease && 'lease ' + r.lease,
    ...r.options.map((o) => `${o.name}=${o.value}`),
  ]
    .filter(Boolean)
    .join(', ')

export const ruleColumns = (change: (edits: Edit[]) => void): TableColumnsType<Rule> => [
  { title: 'Of', render: (_, r) => r.scope || (r.supernet ? 'supernet ' + r.supernet : 'defaults') },
  { title: 'Order', dataIndex: 'order', align: 'right', width: 60 },
  {
    title: 'Rule',
    render: (_, r) => (
      <>
        <b>{r.name}</b>
        {r.off && <span className="quiet"> off</span>}
        {r.note && <div className="quiet">{r.note}</div>}
      </>
    ),
  },
  { title: 'When', render: (_, r) => <span className="expr">{r.when}</span> },
  { title: 'Then', render: (_, r) => <Folding text={then(r)} /> },
  {
    title: 'Fitted',
    align: 'right',
    render: (_, r) =>
      r.fitted ? (
        <>
          {r.fitted.toLocaleString('en')}×
          <div className="quiet">
            <When at={r.last} />
          </div>
        </>
      ) : (
        <span className="quiet">never</span>
      ),
  },
  removal((r) => change([{ op: 'remove', kind: 'rule', name: r.name }])),
]

export const listColumns = (change: (edits: Edit[]) => void): TableColumnsType<List> => [
  { title: 'List', render: (_, l) => <b>{l.name}</b> },
  {
    title: 'Entries',
    render: (_, l) => (
      <>
        {l.entries.length}{' '}
        <span className="quiet mono">
          {l.entries.slice(0, 3).join(' ')}
          {l.entries.length > 3 && ' …'}
        </span>
      </>
    ),
  },
  { title: 'Used by', render: (_, l) => l.rules.join(', ') },
  { title: 'Note', dataIndex: 'note' },
  removal((l) => change([{ op: 'remove', kind: 'list', name: l.name }])),
]
