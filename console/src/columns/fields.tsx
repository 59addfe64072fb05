import type { TableColumnsType } from 'antd'
import type { Edit, OwnField } from '../api/client'
import { removal } from './cells'

/** The kinds of items that can have fields of one's own. */
export const kinds = ['scope', 'supernet', 'link', 'reservation', 'rule', 'list', 'codebook', 'trial']

export const types: Record<OwnField['type'], string> = {
  text: 'texts',
  number: 'numbers',
  date: 'dates',
  choice: 'one of some choices',
  address: 'addresses',
  link: 'links (https://…)',
}

export const fieldColumns = (change: (edits: Edit[]) => void): TableColumnsType<OwnField> => [
  {
    title: 'Field',
    sorter: (a, b) => a.name.localeCompare(b.name),
    render: (_, f) => (
      <>
        <b>{f.name}</b>
        {f.note && <div className="quiet">{f.note}</div>}
      </>
    ),
  },
  {
    title: 'Its values are',
    render: (_, f) => (
      <>
        {types[f.type]}
        {f.choices.length > 0 && <div className="quiet">{f.choices.join(', ')}</div>}
      </>
    ),
  },
  { title: 'On', render: (_, f) => (f.on.length === kinds.length ? 'any item' : f.on.map((k) => k + 's').join(', ')) },
  { title: 'In use', dataIndex: 'used', align: 'right', sorter: (a, b) => a.used - b.used },
  removal((f) => change([{ op: 'remove', kind: 'field', name: f.name }])),
]
