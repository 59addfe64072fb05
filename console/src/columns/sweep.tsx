import type { TableColumnsType } from 'antd'
import type { Swept } from '../api/client'
import { Mono, When } from '../parts/bits'

export const sweptColumns = (kind: string): TableColumnsType<Swept['items'][number]> => [
  { title: kind === 'unclaimed' ? 'Reservation' : 'Address', render: (_, i) => <Mono>{i.subject}</Mono> },
  { title: 'Scope', dataIndex: 'scope' },
  { title: 'Client', render: (_, i) => <Mono>{i.client}</Mono> },
  { title: 'What', dataIndex: 'text' },
  {
    title: 'Since',
    render: (_, i) => (i.since && !i.since.startsWith('0001') ? <When at={i.since} /> : 'ever'),
  },
]
