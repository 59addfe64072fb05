import { App, Form, Input, Modal, Select, Space, Switch } from 'antd'
import { useEffect } from 'react'
import { useScopes } from '../api/scopes'
import { withOwn, type Own } from '../edits/own'
import { editsOf, type By, type Wanted } from '../edits/reservation'
import { OwnFields } from './own'
import { useChange } from './preview'
import { outcome } from './gathering'

const hints: Record<By, string> = {
  hardware: '02:00:00:00:00:17',
  identifier: '01:02:00:00:00:00:17',
  duid: '00:03:00:01:02:00:00:00:00:17',
  circuit: 'sw1/0/7: whoever is plugged in there',
}

/** Reserves an address; the effect shows before it is kept. */
export function Reserve({ wanted, onClose }: { wanted: Wanted | null; onClose: () => void }) {
  const { message } = App.useApp()
  const [form] = Form.useForm<Wanted & Own>()
  const values = Form.useWatch([], form) as Partial<Wanted & Own> | undefined
  const scopes = useScopes('', wanted !== null)
  const edits = wanted && (!wanted.elsewhere || values?.address) ? editsOf(values) : null
  const c = useChange(edits && edits.map((e) => withOwn(e, values)!), (done) => {
    message.success(outcome(done))
    onClose()
  })
  useEffect(() => {
    if (!wanted) return
    form.resetFields()
    form.setFieldsValue({ address: '', by: 'hardware', insist: false, ...wanted })
  }, [wanted, form])
  return (
    <Modal
      open={wanted !== null}
      title={wanted?.elsewhere ? 'Reserve another address for this client' : 'Reserve an address'}
      okText={wanted?.elsewhere ? 'Move' : 'Reserve'}
      onOk={c.apply}
      confirmLoading={c.busy}
      onCancel={onClose}
      width={620}
      forceRender
      okButtonProps={{ disabled: !c.ready, danger: c.danger }}
    >
      <Form form={form} name="reserve" layout="vertical" requiredMark={false}>
        <div className="grid two" style={{ gap: '0 14px' }}>
          <Form.Item name="name" label="Name">
            <Input />
          </Form.Item>
          <Form.Item label="Client">
            <Space.Compact block>
              <Form.Item name="by" noStyle>
                <Select
                  style={{ width: 130 }}
                  options={[
                    { value: 'hardware', label: 'Hardware' },
                    { value: 'identifier', label: 'Identifier' },
                    { value: 'duid', label: 'DUID (IPv6)' },
                    { value: 'circuit', label: 'Circuit' },
                  ]}
                />
              </Form.Item>
              <Form.Item name="hardware" noStyle>
                <Input className="mono" placeholder={hints[values?.by ?? 'hardware']} />
              </Form.Item>
            </Space.Compact>
          </Form.Item>
          <Form.Item name="scope" label="Scope">
            <Select
              showSearch
              options={scopes.data?.map((s) => ({ value: s.name, label: `${s.name}  ${s.subnet}` }))}
            />
          </Form.Item>
          <Form.Item name="address" label="Address">
            <Input
              className="mono"
              placeholder={wanted?.elsewhere ? 'the one it is to have' : 'the one it has, or a free one'}
            />
          </Form.Item>
          {!wanted?.elsewhere && (
            <Form.Item name="also" label="Also, of either family">
              <Input className="mono" placeholder="2001:db8:77:1::19, 2001:db8:77:8100::/56" />
            </Form.Item>
          )}
          <Form.Item name="hostname" label="Host name">
            <Input placeholder="its own" />
          </Form.Item>
          <Form.Item name="insist" label="Even if another host answers there" valuePropName="checked">
            <Switch size="small" />
          </Form.Item>
          <OwnFields kind="reservation" />
        </div>
      </Form>
      {wanted?.elsewhere && <p className="quiet">It moves when it next renews; a nudge hurries it.</p>}
      {c.view}
    </Modal>
  )
}
