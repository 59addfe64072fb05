import { useQuery } from '@tanstack/react-query'
import { Form, Input, Select, Switch, Table } from 'antd'
import { useState } from 'react'
import { Link as Goto } from 'react-router'
import { items, type Link, type Relay } from '../api/client'
import { editOf, fieldsOf, type Fields } from '../edits/link'
import { Empty, Failure, Mono, paged, StatusMark, When } from '../parts/bits'
import { ItemForm } from '../parts/itemform'
import { SubNav } from '../parts/subnav'

/** How clients are reached: links, and the relays that forward from them. */
export default function Links() {
  const links = useQuery({ queryKey: ['links'], queryFn: () => items<Link>('/links') })
  const relays = useQuery({ queryKey: ['relays'], queryFn: () => items<Relay>('/relays'), refetchInterval: 5000 })
  const [form, setForm] = useState<Link | null>(null)
  return (
    <>
      <div className="head">
        <div>
          <h1>Links</h1>
          <span className="quiet">
            A link is one broadcast domain, reached through an interface or through relays; a scope brings its own
          </span>
        </div>
      </div>
      <SubNav of="plan" />
      <Failure error={links.error} />
      <div className="grid">
        <div className="panel flush">
          <Table<Link>
            size="small"
            rowKey="name"
            dataSource={links.data}
            pagination={paged}
            className="clickable"
            onRow={(l) => ({ onClick: () => setForm(l) })}
            locale={{ emptyText: <Empty>No link is defined yet.</Empty> }}
            columns={[
              {
                title: 'Link',
                render: (_, l) => (
                  <>
                    <b>{l.name}</b>
                    {l.note && <div className="quiet">{l.note}</div>}
                  </>
                ),
              },
              { title: 'Interfaces', render: (_, l) => l.interfaces.join(', ') },
              { title: 'Relays', render: (_, l) => <Mono>{l.relays.join(' ')}</Mono> },
              {
                title: 'Scopes',
                render: (_, l) =>
                  l.scopes.map((s, i) => (
                    <span key={s}>
                      {i > 0 && ', '}
                      <Goto to={'/plan/' + s} onClick={(e) => e.stopPropagation()}>
                        {s}
                      </Goto>
                    </span>
                  )),
              },
              {
                title: 'State',
                render: (_, l) =>
                  l.listening ? (
                    <StatusMark status="held" word="listened to" />
                  ) : l.standAside ? (
                    <StatusMark status="draining" word="stands aside" />
                  ) : (
                    <StatusMark status="good" word="answered" />
                  ),
              },
            ]}
          />
        </div>
        <div className="panel flush">
          <h2>Relays</h2>
          <Table<Relay>
            size="small"
            rowKey="address"
            dataSource={relays.data}
            pagination={paged}
            locale={{ emptyText: <Empty>No relay was heard, and the plan names none.</Empty> }}
            columns={[
              { title: 'Relay', render: (_, r) => <Mono>{r.address}</Mono> },
              { title: 'Link', dataIndex: 'link', render: (l) => l || <span className="quiet">none knows it</span> },
              { title: 'Messages', align: 'right', render: (_, r) => r.count.toLocaleString('en') },
              { title: 'Last', render: (_, r) => (r.last ? <When at={r.last} /> : 'not since the start') },
              {
                title: 'Usual gap',
                align: 'right',
                render: (_, r) => (r.count > 1 ? (r.gap < 1 ? 'under 1 s' : `${Math.round(r.gap)} s`) : ''),
              },
              {
                title: 'State',
                render: (_, r) =>
                  r.silent ? (
                    <StatusMark status="bad" word="silent: unusually quiet" />
                  ) : r.last ? (
                    <StatusMark status="good" word="heard" />
                  ) : (
                    <StatusMark status="held" word="not heard" />
                  ),
              },
            ]}
          />
        </div>
      </div>
      {form && (
        <ItemForm<Fields>
          open
          of={form}
          title={`Edit link ${form.name}`}
          onClose={() => setForm(null)}
          hint="Change something, and the effect shows here."
          initial={fieldsOf(form)}
          toEdit={(v) => editOf(v, form)}
          fields={() => (
            <>
              <Form.Item name="name" label="Name">
                <Input />
              </Form.Item>
              <Form.Item name="interfaces" label="Interfaces" extra="On which its clients broadcast to this server">
                <Select mode="tags" />
              </Form.Item>
              <Form.Item
                name="relays"
                label="Relay addresses"
                extra="giaddr, one a line; needed only where it lies in no scope of the link"
              >
                <Input.TextArea className="mono" autoSize={{ minRows: 2, maxRows: 8 }} />
              </Form.Item>
              <Form.Item
                name="listening"
                label="Listen only"
                extra="Hear it and send nothing; what would be answered is compared with what another server gives"
                valuePropName="checked"
              >
                <Switch />
              </Form.Item>
              <Form.Item
                name="standAside"
                label="Stand aside"
                extra="Do not answer while another server answers there"
                valuePropName="checked"
              >
                <Switch />
              </Form.Item>
              <Form.Item name="note" label="Note">
                <Input />
              </Form.Item>
            </>
          )}
        />
      )}
    </>
  )
}
