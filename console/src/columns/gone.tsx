import type { TableColumnsType } from 'antd'
import type { Finding } from '../api/client'
import { When } from '../parts/bits'
import { Severity } from '../parts/findings'

export const goneColumns = (): TableColumnsType<Finding> => [
  { title: 'Severity', width: 100, render: (_, f) => <Severity of={f.severity} /> },
  { title: 'Subject', width: 220, dataIndex: 'subject' },
  { title: 'What it was', dataIndex: 'text' },
  { title: 'From', width: 100, render: (_, f) => <When at={f.first} /> },
  { title: 'Gone', width: 100, render: (_, f) => <When at={f.gone} /> },
]
