import type { TableColumnsType } from 'antd'
import type { Explanation } from '../api/client'
import { Folding, StatusMark } from '../parts/bits'

export const optionColumns = (): TableColumnsType<Explanation['options'][number]> => [
  { title: 'Code', dataIndex: 'code', align: 'right', width: 60 },
  { title: 'Option', dataIndex: 'name' },
  { title: 'Value', dataIndex: 'value', render: (v) => <Folding text={v} /> },
  {
    title: 'From',
    width: 165,
    render: (_, o) => (
      <>
        {o.level}
        {o.from && <> {o.from}</>}
      </>
    ),
  },
  {
    title: 'Sent',
    width: 110,
    render: (_, o) => (o.sent ? <StatusMark status="good" word="yes" /> : <span className="quiet">not asked for</span>),
  },
  {
    title: 'As sent',
    dataIndex: 'bytes',
    width: 100,
    ellipsis: true,
    render: (b) => <span className="mono quiet">{b}</span>,
  },
]
