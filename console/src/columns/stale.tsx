import type { TableColumnsType } from 'antd'
import type { StaleLease } from '../api/client'
import { Mono, StatusMark, When } from '../parts/bits'

export const staleColumns = (): TableColumnsType<StaleLease> => [
  { title: 'Address', render: (_, x) => <Mono>{x.lease.address}</Mono> },
  {
    title: 'Client',
    render: (_, x) => (
      <>
        {x.lease.hostname || 'no name'}{' '}
        <span className="quiet">
          <Mono>{x.lease.hardware}</Mono>
        </span>
      </>
    ),
  },
  { title: 'Scope', render: (_, x) => x.lease.scope },
  { title: 'Renews', render: (_, x) => <When at={x.renews} /> },
  {
    title: 'Nudge',
    render: (_, x) =>
      x.lease.canNudge ? <StatusMark status="good" word="possible" /> : <span className="quiet">renews by itself</span>,
  },
  {
    title: 'Then',
    render: (_, x) =>
      x.moves ? <StatusMark status="draining" word="moves to another address" /> : 'keeps its address',
  },
]
