import type { TableColumnsType } from 'antd'
import { Link } from 'react-router'
import type { Scope } from '../api/client'
import { count, Mono, StatusMark, UseBar, usedShare } from '../parts/bits'

const value = (address: string) =>
  address
    .split('/')[0]
    .split('.')
    .reduce((n, part) => n * 256 + Number(part), 0)

export const scopeColumns = (): TableColumnsType<Scope> => [
  {
    title: 'Scope',
    dataIndex: 'name',
    sorter: (a, b) => a.name.localeCompare(b.name),
    render: (n) => (
      <Link to={'/plan/' + n} onClick={(e) => e.stopPropagation()}>
        <b>{n}</b>
      </Link>
    ),
  },
  {
    title: 'Subnet',
    dataIndex: 'subnet',
    sorter: (a, b) => value(a.subnet) - value(b.subnet),
    render: (v) => <Mono>{v}</Mono>,
  },
  { title: 'Link', dataIndex: 'link' },
  {
    title: 'Mode',
    dataIndex: 'mode',
    sorter: (a, b) => a.mode.localeCompare(b.mode),
    render: (m, s) => (
      <>
        {<StatusMark status={m} />}
        {s.listening && <div className="quiet">listening</div>}
      </>
    ),
  },
  { title: 'Lease', dataIndex: 'lease' },
  {
    title: 'Pools',
    align: 'right',
    render: (_, s) => count(s.usage.size),
    sorter: (a, b) => a.usage.size - b.usage.size,
  },
  {
    title: 'Active',
    align: 'right',
    render: (_, s) => s.usage.active.toLocaleString('en'),
    sorter: (a, b) => a.usage.active - b.usage.active,
  },
  {
    title: 'Headroom',
    align: 'right',
    render: (_, s) => count(s.usage.headroom),
    sorter: (a, b) => a.usage.headroom - b.usage.headroom,
  },
  {
    title: 'Used',
    width: 115,
    render: (_, s) => <UseBar scope={s} />,
    sorter: (a, b) => usedShare(a) - usedShare(b),
  },
  { title: 'Reserved', align: 'right', render: (_, s) => s.usage.reserved || '' },
  {
    title: 'Abandoned',
    align: 'right',
    render: (_, s) => (s.usage.abandoned ? <StatusMark status="bad" word={String(s.usage.abandoned)} /> : ''),
  },
]
