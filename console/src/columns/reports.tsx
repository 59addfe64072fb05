import type { TableColumnsType } from 'antd'
import { api } from '../api/client'
import type { Report } from '../api/client'
import { When } from '../parts/bits'

export const reportColumns: TableColumnsType<Report> = [
  { title: 'Number', dataIndex: 'number', width: 80, align: 'right' },
  { title: 'Made', width: 120, render: (_, r) => <When at={r.at} /> },
  { title: 'Says', dataIndex: 'text' },
  { title: 'Size', width: 90, align: 'right', render: (_, r) => `${Math.ceil(r.size / 1024)} kB` },
  {
    title: '',
    width: 90,
    align: 'right',
    render: (_, r) => <a href={api + '/audit/reports/' + r.number}>The file</a>,
  },
]
