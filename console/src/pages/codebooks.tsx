import { useQuery } from '@tanstack/react-query'
import { Button, Form, Input, InputNumber, Select, Table } from 'antd'
import { useState } from 'react'
import { useSearchParams } from 'react-router'
import { items, type Code, type Codebook, type Edit, type Vendor } from '../api/client'
import { editOf, fieldsOf, type Fields } from '../edits/codebook'
import { Empty, Failure, paged } from '../parts/bits'
import { ItemForm } from '../parts/itemform'
import { Confirm } from '../parts/preview'
import { SubNav } from '../parts/subnav'
import { codebookColumns, codeColumns, places } from '../columns/codebooks'
import { Search } from '../parts/filters'
import { opens } from '../parts/opens'

/** Own codebooks, those of vendors, and the reference of all options. */
export default function Codebooks() {
  const [params, setParams] = useSearchParams()
  const search = params.get('search') ?? ''
  const books = useQuery({ queryKey: ['codebooks'], queryFn: () => items<Codebook>('/codebooks') })
  const vendors = useQuery({ queryKey: ['vendors'], queryFn: () => items<Vendor>('/vendors') })
  const codes = useQuery({
    queryKey: ['codes', search],
    queryFn: () => items<Code>('/codes', { search }),
    placeholderData: (old) => old,
  })
  const [form, setForm] = useState<Codebook | 'new' | null>(null)
  const [edits, setEdits] = useState<Edit[] | null>(null)
  const old = form && form !== 'new' ? form : undefined
  return (
    <>
      <div className="head">
        <div>
          <h1>Codebooks</h1>
          <span className="quiet">Options of your own, and those that vendors look for in 43 and 125</span>
        </div>
        <Button type="primary" onClick={() => setForm('new')}>
          Add a codebook
        </Button>
      </div>
      <SubNav of="plan" />
      <div className="grid">
        <div className="grid" style={{ gridTemplateColumns: 'minmax(0, 2fr) minmax(0, 1fr)' }}>
          <div className="panel flush">
            <Table<Codebook>
              size="small"
              rowKey="name"
              dataSource={books.data}
              pagination={false}
              className="clickable"
              onRow={(c) => opens(() => setForm(c))}
              locale={{
                emptyText: (
                  <Empty>No codebook is defined. Add one for a vendor's sub-options, or for options of your own.</Empty>
                ),
              }}
              columns={codebookColumns(setEdits)}
            />
          </div>
          <div className="panel">
            <h2>Vendor classes seen</h2>
            <table style={{ width: '100%' }}>
              <tbody>
                {vendors.data?.slice(0, 12).map((v) => (
                  <tr key={v.class}>
                    <td>{v.class}</td>
                    <td className="num quiet">{v.clients.toLocaleString('en')}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        </div>
        <div className="panel flush">
          <div className="filters" style={{ padding: '10px 14px 0' }}>
            <h2 style={{ margin: 0, flex: 1 }}>All options</h2>
            <Search
              value={search}
              hint="Code, name or meaning"
              width={260}
              onSearch={(v) => setParams(v ? { search: v } : {}, { replace: true })}
            />
          </div>
          <Table<Code>
            size="small"
            rowKey={(c) => (c.book ?? '') + c.code}
            dataSource={codes.data}
            pagination={{ ...paged, pageSize: 25 }}
            columns={codeColumns()}
          />
        </div>
      </div>
      <Failure error={books.error ?? codes.error} />
      {form && (
        <ItemForm<Fields>
          kind="codebook"
          open
          of={old}
          title={old ? `Edit codebook ${old.name}` : 'Add a codebook'}
          onClose={() => setForm(null)}
          hint="Give a name and at least one option."
          initial={fieldsOf(old)}
          toEdit={(v) => editOf(v, old)}
          fields={(v) => (
            <>
              <Form.Item name="name" label="Name">
                <Input disabled={!!old} placeholder="accesspoint" />
              </Form.Item>
              <Form.Item name="place" label="Its options travel in">
                <Select options={Object.entries(places).map(([value, label]) => ({ value, label }))} />
              </Form.Item>
              {v.place === '43' && (
                <Form.Item
                  name="classes"
                  label="For vendor classes"
                  extra="Picked from those seen, or typed; a final * stands for any rest"
                >
                  <Select
                    mode="tags"
                    options={vendors.data?.map((x) => ({ value: x.class, label: `${x.class} (${x.clients})` }))}
                  />
                </Form.Item>
              )}
              {(v.place === '125' || v.place === '17') && (
                <Form.Item name="enterprise" label="Enterprise number">
                  <InputNumber min={1} />
                </Form.Item>
              )}
              <Form.Item
                name="codes"
                label="Options"
                extra={
                  <>
                    One a line: code, name, type; meaning. Types are address, text, name, names, u8, u16, u32, i8, i16,
                    i32, bool, duration, bytes, route, counted, several of them, and list behind.
                  </>
                }
              >
                <Input.TextArea
                  className="mono"
                  autoSize={{ minRows: 3, maxRows: 14 }}
                  placeholder="241 controller address list; wireless controllers"
                />
              </Form.Item>
              <Form.Item name="note" label="Note">
                <Input />
              </Form.Item>
            </>
          )}
        />
      )}
      <Confirm title="Remove the codebook" wish={edits} onClose={() => setEdits(null)} />
    </>
  )
}
