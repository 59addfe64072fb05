import type { TableColumnsType } from 'antd'
import { Link } from 'react-router'
import type { UnmetOption } from '../api/client'

export const wishColumns = (): TableColumnsType<UnmetOption> => [
  {
    title: 'Clients',
    dataIndex: 'clients',
    align: 'right',
    width: 90,
    render: (n) => <b>{n.toLocaleString('en')}</b>,
  },
  { title: 'Code', dataIndex: 'code', align: 'right', width: 70 },
  { title: 'Option', dataIndex: 'name' },
  {
    title: 'In scopes',
    render: (_, u) =>
      u.scopes.map((s, i) => (
        <span key={s}>
          {i > 0 && ', '}
          <Link to={'/plan/' + s.replace(/ \(.*/, '') + '?tab=options'}>{s}</Link>
        </span>
      )),
  },
  { title: 'Vendor classes', render: (_, u) => u.vendors.join(', ') },
]
