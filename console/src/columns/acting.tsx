import type { TableColumnsType } from 'antd'
import type { ActedOne } from '../api/client'
import { Mono, StatusMark } from '../parts/bits'

const marks: Record<ActedOne['outcome'], [mark: string, word: string]> = {
  answers: ['good', 'answers'],
  another: ['bad', 'another machine'],
  silent: ['held', 'silent'],
  unreachable: ['unknown', 'not known'],
  woken: ['good', 'magic packet'],
  nudged: ['good', 'renews'],
  ended: ['released', 'ended'],
  refused: ['warn', 'left as it is'],
}

export const actedColumns: TableColumnsType<ActedOne> = [
  { title: 'Address', render: (_, c) => <Mono>{c.address}</Mono>, width: 120 },
  { title: 'Client', className: 'nowrap', render: (_, c) => c.hostname || <Mono>{c.hardware}</Mono> },
  {
    title: 'Outcome',
    render: (_, c) => <StatusMark status={marks[c.outcome][0]} word={marks[c.outcome][1]} />,
    width: 140,
  },
  { title: 'In words', dataIndex: 'text' },
]
