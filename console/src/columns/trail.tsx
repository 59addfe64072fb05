import type { TableColumnsType } from 'antd'
import type { Deed } from '../api/client'
import { Mono, When } from '../parts/bits'

/** The columns of the trail; which server was asked stands there for a pair alone. */
export const deedColumns = (pair: boolean): TableColumnsType<Deed> => [
  { title: 'When', width: 100, render: (_, d) => <When at={d.at} /> },
  { title: 'Who', dataIndex: 'who', width: 90 },
  {
    title: 'Did',
    render: (_, d) => (
      <>
        {d.deed} {d.subject && <Mono>{d.subject}</Mono>}
        {d.detail && <div className="quiet">{d.detail}</div>}
      </>
    ),
  },
  { title: 'Why', dataIndex: 'reason', width: 200 },
  ...(pair ? [{ title: 'At', dataIndex: 'server', width: 90 }] : []),
  { title: 'From', width: 120, render: (_, d) => (d.from ? <Mono>{d.from}</Mono> : null) },
]
