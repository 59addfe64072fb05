import type { TableColumnsType } from 'antd'
import type { LeaseEvent } from '../api/client'
import { Mono, StatusMark, When } from '../parts/bits'

export const eventColumns = (): TableColumnsType<LeaseEvent> => [
  { title: 'At', render: (_, e) => <Mono>{new Date(e.at).toLocaleString('en-GB')}</Mono> },
  { title: 'Address', render: (_, e) => <Mono>{e.address}</Mono> },
  {
    title: 'Became',
    render: (_, e) => (
      <>
        <StatusMark status={e.status} /> {e.by && <span className="quiet">by {e.by}</span>}
      </>
    ),
  },
  {
    title: 'Client',
    render: (_, e) => (
      <>
        {e.hostname || 'no name'}{' '}
        <span className="quiet">
          <Mono>{e.hardware}</Mono>
        </span>
      </>
    ),
  },
  { title: 'Since', render: (_, e) => <When at={e.since} /> },
  { title: 'Until', render: (_, e) => <When at={e.expires} /> },
  { title: 'Way', render: (_, e) => <Mono>{[e.relay, e.circuit].filter(Boolean).join(' ')}</Mono> },
]
