import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { App, Form, Input, Select, Switch, Table } from 'antd'
import { useState } from 'react'
import { call, items, type Link, type Relay } from '../api/client'
import { editOf, fieldsOf, type Fields } from '../edits/link'
import { Empty, Failure, paged } from '../parts/bits'
import { ItemForm } from '../parts/itemform'
import { SubNav } from '../parts/subnav'
import { opens } from '../parts/opens'
import { linkColumns, relayColumns } from '../columns/links'

/** How clients are reached: links, and the relays that forward from them. */
export default function Links() {
  const links = useQuery({ queryKey: ['links'], queryFn: () => items<Link>('/links') })
  const relays = useQuery({ queryKey: ['relays'], queryFn: () => items<Relay>('/relays'), refetchInterval: 5000 })
  const [form, setForm] = useState<Link | null>(null)
  const { message } = App.useApp()
  const queries = useQueryClient()
  const forget = useMutation({
    mutationFn: (r: Relay) => call<{ count: number }>('DELETE', '/relays', { address: r.address }),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['relays'] }),
    onError: (e) => message.error(e.message),
  })
  const accept = (r: Relay) => {
    const of = links.data?.find((l) => l.name === r.link)
    if (of) setForm({ ...of, relays: [...of.relays, r.address] })
  }
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
            onRow={(l) => opens(() => setForm(l))}
            locale={{ emptyText: <Empty>No link is defined yet.</Empty> }}
            columns={linkColumns()}
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
            columns={relayColumns(accept, (r) => forget.mutate(r))}
          />
        </div>
      </div>
      {form && (
        <ItemForm<Fields>
          kind="link"
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
                extra="giaddr, one a line. What a relay says of circuits counts only if it is named here"
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
              <Form.Item
                name="subnetSelection"
                label="Subnet selection"
                extra="Let clients of other links choose a scope of this one (option 118)"
                valuePropName="checked"
              >
                <Switch />
              </Form.Item>
              <Form.Item
                name="wake"
                label="Clients may be woken"
                extra="Wake-on-LAN: a frame on a link of this server, beyond a relay a broadcast to the subnet, which routers have to let through"
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
