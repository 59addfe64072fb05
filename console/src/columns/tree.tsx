import type { TableColumnsType } from 'antd'
import { Link } from 'react-router'
import type { Row } from '../edits/tree'
import { count, Mono, StatusMark, UseBar, plural } from '../parts/bits'

export const treeColumns = (onEdit: (supernet: string) => void): TableColumnsType<Row> => [
  {
    title: 'Name',
    width: 225,
    render: (_, r) =>
      r.scope ? (
        <Link to={'/plan/' + r.name}>
          <b>{r.name}</b>
        </Link>
      ) : (
        <a onClick={() => onEdit(r.name)}>{r.name}</a>
      ),
  },
  { title: 'Prefix', width: 150, render: (_, r) => <Mono>{r.prefix}</Mono> },
  {
    title: 'What',
    width: 150,
    render: (_, r) =>
      r.scope ? (
        <StatusMark status={r.scope.mode} />
      ) : (
        <span className="quiet">supernet, {plural(r.supernet!.scopes, 'scope')}</span>
      ),
  },
  {
    title: 'Lease',
    width: 75,
    render: (_, r) =>
      r.scope ? <span className={r.scope.leaseSet ? '' : 'quiet'}>{r.scope.lease}</span> : r.supernet!.lease,
  },
  { title: 'Pools', width: 80, align: 'right', render: (_, r) => count(r.usage.size) },
  { title: 'Active', width: 80, align: 'right', render: (_, r) => r.usage.active.toLocaleString('en') },
  { title: 'Headroom', width: 95, align: 'right', render: (_, r) => count(r.usage.headroom) },
  { title: 'Used', width: 125, render: (_, r) => <UseBar scope={r} /> },
]
