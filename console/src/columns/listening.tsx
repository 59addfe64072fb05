import type { TableColumnsType } from 'antd'
import type { Agreement, Listening } from '../api/client'
import { Mono, StatusMark, When } from '../parts/bits'

export const agreeingColumns = (): TableColumnsType<Listening['scopes'][number]> => [
  { title: 'Scope', render: (_, s) => s.scope || <span className="quiet">addresses of no scope</span> },
  { title: 'Link', dataIndex: 'link' },
  { title: 'Clients', dataIndex: 'clients', align: 'right' },
  {
    title: 'Agree',
    align: 'right',
    render: (_, s) => (s.agree ? <StatusMark status="good" word={String(s.agree)} /> : 0),
  },
  {
    title: 'Disagree',
    align: 'right',
    render: (_, s) => (s.disagree ? <StatusMark status="bad" word={String(s.disagree)} /> : 0),
  },
]

export const agreementColumns = (): TableColumnsType<Agreement> => [
  {
    title: 'Client',
    render: (_, a) => (
      <>
        {a.hostname || 'no name'}
        <div className="quiet">
          <Mono>{a.hardware || a.duid}</Mono>
        </div>
      </>
    ),
  },
  { title: 'Took', render: (_, a) => <Mono>{a.took}</Mono> },
  { title: 'From', render: (_, a) => <Mono>{a.server}</Mono> },
  { title: 'Would offer', render: (_, a) => <Mono>{a.would}</Mono> },
  {
    title: 'Agrees',
    render: (_, a) => (
      <StatusMark
        status={a.agrees ? 'good' : 'bad'}
        word={a.agrees ? (a.options ? 'yes, options too' : 'yes') : 'no'}
      />
    ),
  },
  {
    title: 'Difference',
    width: '34%',
    render: (_, a) => <span style={{ whiteSpace: 'normal' }}>{a.difference.join('; ')}</span>,
  },
  { title: 'When', render: (_, a) => <When at={a.at} /> },
]
