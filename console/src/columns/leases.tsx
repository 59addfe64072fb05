import type { TableColumnsType } from 'antd'
import type { ReactNode } from 'react'
import type { Lease, LeaseEvent } from '../api/client'
import { Mono, StatusMark, When } from '../parts/bits'

/** How a client came by an address. */
export const kindOf = (l: Lease) =>
  l.reserved ? 'reserved' : l.status === 'registered' ? 'made by its client' : 'dynamic'

/** The lease table is sorted by the server, which is asked for one page at a time. */
export const leaseColumns = (query: { sort?: string; desc?: boolean }): TableColumnsType<Lease> => {
  const column = (title: string, key: string, render: (l: Lease) => ReactNode, width?: number) => ({
    title,
    key,
    width,
    sorter: true,
    sortOrder: query.sort === key ? (query.desc ? ('descend' as const) : ('ascend' as const)) : null,
    render: (_: unknown, l: Lease) => render(l),
  })
  return [
    column('Address', 'address', (l) => <Mono>{l.address}</Mono>, 120),
    column('Status', 'status', (l) => <StatusMark status={l.status} />, 110),
    column('Hardware address', 'hardware', (l) => <Mono>{l.hardware}</Mono>, 150),
    column('Host name', 'hostname', (l) => l.hostname),
    column('Scope', 'scope', (l) => l.scope),
    column('Expires', 'expires', (l) => <When at={l.expires} />, 90),
    column('Since', 'since', (l) => <When at={l.since} />, 90),
    column('Heard', 'heard', (l) => <When at={l.heard} />, 90),
    {
      title: 'Kind',
      key: 'kind',
      render: (_, l) => (l.reserved ? <StatusMark status="reserved" /> : kindOf(l)),
    },
    column('Vendor class', 'vendor', (l) => l.vendor),
    { title: 'Circuit', key: 'circuit', render: (_, l) => l.circuit && <Mono>{l.circuit}</Mono> },
  ]
}

export const holderColumns = (): TableColumnsType<LeaseEvent> => [
  { title: 'When', render: (_, e) => <When at={e.at} /> },
  { title: 'Status', render: (_, e) => <StatusMark status={e.status} /> },
  { title: 'Hardware address', render: (_, e) => <Mono>{e.hardware}</Mono> },
  { title: 'Host name', dataIndex: 'hostname' },
  { title: 'Until', render: (_, e) => <When at={e.expires} /> },
]
