import { Form, Input, InputNumber, Select } from 'antd'
import type { Supernet } from '../api/client'
import { editOf, fieldsOf, type Fields } from '../edits/supernet'
import { ItemForm } from './itemform'
import { SpaceMap } from './space'

/** Adds a supernet, or changes the one that is given. */
export function SupernetForm({ open, old, onClose }: { open: boolean; old?: Supernet; onClose: () => void }) {
  return (
    <ItemForm<Fields>
      kind="supernet"
      open={open}
      of={old}
      title={old ? `Edit supernet ${old.name}` : 'Add a supernet'}
      onClose={onClose}
      hint="A name and a prefix are enough. What lies in the prefix inherits what is set here."
      initial={fieldsOf(old)}
      toEdit={(v) => editOf(v, old)}
      aside={() => old && <SpaceMap supernet={old.name} />}
      fields={() => (
        <>
          <Form.Item name="name" label="Name">
            <Input autoFocus />
          </Form.Item>
          <Form.Item name="prefix" label="Prefix" extra="Around whole scopes, such as 10.40.0.0/16">
            <Input className="mono" />
          </Form.Item>
          <Form.Item name="lease" label="Lease time">
            <Input placeholder="inherited" />
          </Form.Item>
          <Form.Item name="identity" label="Clients are told apart by">
            <Select
              options={[
                { value: '', label: 'what is inherited' },
                { value: 'identifier', label: 'the client identifier, if they send one' },
                { value: 'hardware', label: 'the hardware address alone' },
              ]}
            />
          </Form.Item>
          <Form.Item name="options" label="Options" extra="One a line: name=value; none takes an inherited value away">
            <Input.TextArea className="mono" autoSize={{ minRows: 3, maxRows: 14 }} />
          </Form.Item>
          <Form.Item name="warnUsed" label="Warn of scopes above" extra="Empty: inherited; -1: never">
            <InputNumber min={-1} max={100} suffix="% used" />
          </Form.Item>
          <Form.Item name="warnHeadroom" label="Warn of scopes with less than">
            <InputNumber min={-1} suffix="left" />
          </Form.Item>
          <Form.Item name="warnDays" label="Warn ahead of running out">
            <InputNumber min={-1} max={365} suffix="days" />
          </Form.Item>
          <Form.Item name="note" label="Note">
            <Input />
          </Form.Item>
        </>
      )}
    />
  )
}
