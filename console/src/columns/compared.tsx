import type { TableColumnsType } from 'antd'
import type { Finding } from '../api/client'
import { StatusMark, When } from '../parts/bits'
import { Chooser } from '../parts/opens'
import { Severity } from '../parts/findings'

/** A finding that one of two audits has, and the other has not. */
export type Compared = Finding & { came: boolean }

export const comparedColumns: TableColumnsType<Compared> = [
  {
    title: '',
    width: 90,
    render: (_, f) => (f.came ? <StatusMark status="warn" word="came" /> : <StatusMark status="good" word="went" />),
    filterIcon: () => <Chooser by="came or went" />,
    filters: [
      { text: 'came', value: true },
      { text: 'went', value: false },
    ],
    onFilter: (v, f) => f.came === v,
  },
  { title: 'Severity', width: 110, render: (_, f) => <Severity of={f.severity} /> },
  { title: 'Subject', width: 220, dataIndex: 'subject' },
  { title: 'What', dataIndex: 'text' },
  { title: 'First', width: 110, render: (_, f) => <When at={f.first} /> },
  { title: 'Gone', width: 110, render: (_, f) => (f.gone ? <When at={f.gone} /> : '') },
]
