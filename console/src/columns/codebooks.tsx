import type { TableColumnsType } from 'antd'
import type { Code, Codebook, Edit } from '../api/client'
import { removal } from './cells'
import { Mono } from '../parts/bits'

export const places = {
  message: 'the message itself',
  '43': 'option 43, by vendor class',
  '125': 'option 125, by enterprise number',
  '17': 'option 17 of DHCPv6, by enterprise number',
}

export const codebookColumns = (change: (edits: Edit[]) => void): TableColumnsType<Codebook> => [
  {
    title: 'Codebook',
    render: (_, c) => (
      <>
        <b>{c.name}</b>
        {c.note && <div className="quiet">{c.note}</div>}
      </>
    ),
  },
  {
    title: 'Travels in',
    render: (_, c) => (
      <>
        {places[c.place]}
        <div className="quiet">{c.classes.join(', ') || c.enterprise || ''}</div>
      </>
    ),
  },
  {
    title: 'Options',
    render: (_, c) =>
      c.options.map((o) => (
        <div key={o.code}>
          <Mono>{o.code}</Mono> {o.name} <span className="quiet">{o.type}</span>
        </div>
      )),
  },
  { title: 'Clients seen', dataIndex: 'seen', align: 'right' },
  removal((c) => change([{ op: 'remove', kind: 'codebook', name: c.name }])),
]

export const codeColumns = (): TableColumnsType<Code> => [
  { title: 'Code', dataIndex: 'code', align: 'right', width: 60 },
  {
    title: 'Option',
    render: (_, c) => (
      <>
        {c.name}
        {c.other && <span className="quiet"> {c.other}</span>}
      </>
    ),
  },
  { title: 'Type', dataIndex: 'type' },
  { title: 'Meaning', dataIndex: 'meaning' },
  {
    title: 'Set',
    align: 'right',
    render: (_, c) => (c.set ? `${c.set}×` : c.managed ? <span className="quiet">computed</span> : ''),
  },
]
