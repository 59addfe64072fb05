import { App, Button, Collapse, Drawer, Form, Input, InputNumber, Select, Switch } from 'antd'
import { useQuery } from '@tanstack/react-query'
import { items, revisionOf, type Link, type Scope } from '../api/client'
import { useChange } from './preview'
import { outcome } from './gathering'
import { editOf, fieldsOf, isSix, type Fields } from '../edits/scope'
import { touched } from '../edits/touched'
import { withOwn, type Own } from '../edits/own'
import { OwnFields } from './own'
import { useOpened } from './opened'
import { RehearsalView } from './rehearse'

/** Adds or edits a scope; what it does is shown before it is kept. */
export function ScopeForm({
  open,
  old: live,
  subnet,
  onClose,
  onDone,
}: {
  open: boolean
  old?: Scope
  subnet?: string
  onClose: () => void
  onDone?: (name: string) => void
}) {
  const { message } = App.useApp()
  const [form] = Form.useForm<Fields & Own>()
  const values = Form.useWatch([], form) as (Fields & Own) | undefined
  const old = useOpened(open, live)
  const base = revisionOf(old)
  const initial: Fields & Own = old
    ? { ...fieldsOf(old), own: old.fields }
    : { serving: true, subnet, probe: true, identity: '', bootp: 'reserved' }
  const edit =
    open && values ? touched(withOwn(editOf(values, old), values), withOwn(editOf(initial, old), initial)) : null
  const c = useChange(
    edit && [edit],
    (done) => {
      message.success(outcome(done))
      onClose()
      if (done.applied) onDone?.(values!.name!)
    },
    base,
  )
  const six = isSix(values?.subnet)
  const links = useQuery({ queryKey: ['links'], queryFn: () => items<Link>('/links'), enabled: open })
  return (
    <Drawer
      open={open}
      onClose={onClose}
      size={900}
      destroyOnHidden
      title={old ? `Edit scope ${old.name}` : 'Add a scope'}
      extra={
        <Button type="primary" onClick={c.apply} loading={c.busy} danger={c.danger} disabled={!c.ready}>
          {old ? 'Apply' : 'Add it'}
        </Button>
      }
    >
      <div className="grid" style={{ gridTemplateColumns: '340px minmax(0, 1fr)', columnGap: 22 }}>
        <Form form={form} layout="vertical" initialValues={initial} requiredMark={false} preserve={false}>
          <Form.Item name="name" label="Name">
            <Input autoFocus={!old} placeholder="looms" />
          </Form.Item>
          <Form.Item name="subnet" label="Subnet" extra="CIDR, or address and mask; or a prefix of IPv6">
            <Input className="mono" placeholder="10.40.8.0/22 or 2001:db8:40:8::/64" />
          </Form.Item>
          <Form.Item
            name="pools"
            label="Pools"
            extra="One a line: a range, a CIDR, or all. None: reserved clients only."
          >
            <Input.TextArea
              className="mono"
              autoSize={{ minRows: 1, maxRows: 6 }}
              placeholder="10.40.8.100-10.40.11.200"
            />
          </Form.Item>
          {six && (
            <Form.Item
              name="prefixPools"
              label="Prefix pools"
              extra="One a line: what routers are delegated prefixes from"
            >
              <Input.TextArea
                className="mono"
                autoSize={{ minRows: 1, maxRows: 6 }}
                placeholder="2001:db8:40:8000::/49 in /56"
              />
            </Form.Item>
          )}
          <Form.Item name="exclusions" label="Exclusions" extra="One a line, with who uses it after a comma">
            <Input.TextArea className="mono" autoSize={{ minRows: 1, maxRows: 6 }} placeholder="10.40.8.120, plotter" />
          </Form.Item>
          {!six && (
            <Form.Item name="router" label="Router (3)">
              <Input className="mono" placeholder="10.40.8.1" />
            </Form.Item>
          )}
          <Form.Item name="dns" label={`DNS servers (${six ? 23 : 6})`}>
            <Input className="mono" placeholder="inherited from the defaults" />
          </Form.Item>
          <Form.Item name="domain" label={six ? 'Domains (24)' : 'Domain name (15)'}>
            <Input placeholder="inherited from the defaults" />
          </Form.Item>
          <Form.Item
            name="lease"
            label="Lease time"
            extra="8h, 12h, 7d or infinite; empty inherits, none takes an inherited one away"
          >
            <Input placeholder="8h" />
          </Form.Item>
          {six && (
            <Form.Item
              name="valid"
              label="Valid lifetime"
              extra="The lease time is how long an address is preferred; empty: half as long again"
            >
              <Input placeholder="12h" />
            </Form.Item>
          )}
          <Form.Item
            name="link"
            label="Link"
            extra="Empty: the one whose interface or relay lies in the subnet, or a new one"
          >
            <Select
              allowClear
              options={links.data?.map((l) => ({
                value: l.name,
                label: l.name + (l.scopes.length ? ` (${l.scopes.join(', ')})` : ''),
              }))}
            />
          </Form.Item>
          {!old && (
            <Form.Item name="serving" label="Serve at once" valuePropName="checked">
              <Switch />
            </Form.Item>
          )}
          <Collapse
            ghost
            size="small"
            style={{ margin: '0 -12px 8px' }}
            items={[
              {
                key: 'more',
                label: 'Who is served, and how',
                forceRender: true,
                children: (
                  <>
                    <Form.Item name="identity" label="Clients are told apart by">
                      <Select
                        options={[
                          { value: '', label: "as the plan's defaults say" },
                          { value: 'identifier', label: 'client identifier, if sent' },
                          { value: 'hardware', label: 'hardware address alone' },
                        ]}
                      />
                    </Form.Item>
                    <Form.Item name="bootp" label="BOOTP clients">
                      <Select
                        options={[
                          { value: 'reserved', label: 'get reserved addresses' },
                          { value: 'dynamic', label: 'get any address, for good' },
                          { value: 'ignore', label: 'are ignored' },
                        ]}
                      />
                    </Form.Item>
                    <Form.Item name="probe" label="Probe addresses before they are offered" valuePropName="checked">
                      <Switch size="small" />
                    </Form.Item>
                    <Form.Item name="authoritative" label="Refuse clients without a record" valuePropName="checked">
                      <Switch size="small" />
                    </Form.Item>
                    <Form.Item name="rapidCommit" label="Rapid commit" valuePropName="checked">
                      <Switch size="small" />
                    </Form.Item>
                    <Form.Item name="offerDelay" label="Offers wait">
                      <Input placeholder="0s" />
                    </Form.Item>
                    <Form.Item name="perCircuit" label="Addresses a relay circuit may have">
                      <InputNumber min={-1} placeholder="any" />
                    </Form.Item>
                    <Form.Item
                      name="newPerMinute"
                      label="New clients a minute"
                      extra="Empty: a tenth of the pools, 60 at least; -1: any number"
                    >
                      <InputNumber min={-1} />
                    </Form.Item>
                    <Form.Item name="warnUsed" label="Warn above" extra="Empty: as the defaults say; -1: never">
                      <InputNumber min={-1} max={100} suffix="% used" />
                    </Form.Item>
                    <Form.Item name="warnHeadroom" label="Warn below">
                      <InputNumber min={-1} suffix="left" />
                    </Form.Item>
                    <Form.Item name="warnDays" label="Warn ahead">
                      <InputNumber min={-1} max={365} suffix="days" />
                    </Form.Item>
                  </>
                ),
              },
            ]}
          />
          <Form.Item name="note" label="Note">
            <Input.TextArea autoSize={{ minRows: 1, maxRows: 4 }} />
          </Form.Item>
          <OwnFields kind="scope" />
        </Form>
        <div className="effect">
          <h2>What this does</h2>
          {!edit && (
            <p className="quiet">Give a name and a subnet, and the effect shows here before anything is changed.</p>
          )}
          {c.view}
          {old && edit && (
            <div style={{ marginTop: 12 }}>
              <RehearsalView key={JSON.stringify(edit)} edits={[edit]} since="7d" />
            </div>
          )}
        </div>
      </div>
    </Drawer>
  )
}
