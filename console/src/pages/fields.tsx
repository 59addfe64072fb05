import { useQuery } from '@tanstack/react-query'
import { Button, Form, Input, Select, Table } from 'antd'
import { useState } from 'react'
import { items, type Edit, type OwnField } from '../api/client'
import { fieldColumns, kinds, types } from '../columns/fields'
import { editOf, fieldsOf, type Fields } from '../edits/own'
import { Empty, Failure } from '../parts/bits'
import { ItemForm } from '../parts/itemform'
import { Confirm } from '../parts/preview'
import { SubNav } from '../parts/subnav'
import { opens } from '../parts/opens'

/** Fields of one's own, which items have values of. */
export default function FieldsPage() {
  const fields = useQuery({ queryKey: ['fields'], queryFn: () => items<OwnField>('/fields') })
  const [form, setForm] = useState<OwnField | 'new' | null>(null)
  const [edits, setEdits] = useState<Edit[] | null>(null)
  const old = form && form !== 'new' ? form : undefined
  return (
    <>
      <div className="head">
        <div>
          <h1>Plan</h1>
          <span className="quiet">
            What you want to know of scopes, reservations and the rest besides: where, whose, which ticket
          </span>
        </div>
        <Button type="primary" onClick={() => setForm('new')}>
          Add a field
        </Button>
      </div>
      <SubNav of="plan" />
      <Failure error={fields.error} />
      <div className="panel flush">
        <Table<OwnField>
          size="small"
          rowKey="name"
          dataSource={fields.data}
          loading={fields.isLoading}
          pagination={false}
          className="clickable"
          onRow={(f) => opens(() => setForm(f))}
          locale={{
            emptyText: (
              <Empty>No field is defined. Add one, such as a location: it is then asked for in the forms.</Empty>
            ),
          }}
          columns={fieldColumns(setEdits)}
        />
      </div>
      {form && (
        <ItemForm<Fields>
          open
          title={old ? `Edit field ${old.name}` : 'Add a field'}
          onClose={() => setForm(null)}
          hint="A name is enough; items then have a text of it."
          initial={fieldsOf(old)}
          toEdit={(v) => editOf(v, old)}
          fields={(v) => (
            <>
              <Form.Item name="name" label="Name" extra="It keeps its name, since items have values by it">
                <Input disabled={!!old} placeholder="location" />
              </Form.Item>
              <Form.Item name="type" label="Its values are">
                <Select options={Object.entries(types).map(([value, label]) => ({ value, label }))} />
              </Form.Item>
              {v.type === 'choice' && (
                <Form.Item name="choices" label="Choices" extra="Type one and press Enter">
                  <Select mode="tags" />
                </Form.Item>
              )}
              <Form.Item name="on" label="On" extra="None: on all of them">
                <Select mode="multiple" options={kinds.map((value) => ({ value, label: value + 's' }))} />
              </Form.Item>
              <Form.Item name="note" label="Note" extra="Shown in the forms">
                <Input />
              </Form.Item>
            </>
          )}
        />
      )}
      <Confirm title="Remove the field" wish={edits} onClose={() => setEdits(null)} />
    </>
  )
}
