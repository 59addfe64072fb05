import { useQuery, useQueryClient } from '@tanstack/react-query'
import { App, Button, Checkbox, Form, Input, InputNumber, Modal, Popconfirm, Table } from 'antd'
import { useState } from 'react'
import { useNavigate, useSearchParams } from 'react-router'
import { call, get, type Prepared } from '../api/client'
import { editColumns, preparedColumns, runDownColumns } from '../columns/prepared'
import { dueOf, undoOf, type Making } from '../edits/prepared'
import { Empty, Failure, When } from '../parts/bits'
import { gatherIn, outcome, useGathering, usePrepared } from '../parts/gathering'
import { Effects, useChange } from '../parts/preview'
import { SubNav } from '../parts/subnav'

const at = (name: string, part = '') => `/plan/prepared/${encodeURIComponent(name)}${part}`

/** Makes a change in preparation: now, or at a moment. */
function MakeIt({ of: p, onClose }: { of: Prepared | null; onClose: () => void }) {
  const { message } = App.useApp()
  const queries = useQueryClient()
  const [form] = Form.useForm<Making>()
  const v = (Form.useWatch([], form) ?? {}) as Making
  const [error, setError] = useState<unknown>()
  const due = dueOf(v)
  const c = useChange(p && { prepared: p.name, rule: undoOf(v) }, (done) => {
    message.success(outcome(done))
    onClose()
  })
  const set = async () => {
    try {
      await call('PUT', at(p!.name, '/due'), {}, due)
      setError(undefined)
      queries.invalidateQueries()
      onClose()
    } catch (e) {
      setError(e)
    }
  }
  return (
    <Modal
      open={p !== null}
      destroyOnHidden
      title={`Make ${p?.name}`}
      width={640}
      onCancel={onClose}
      okText={due ? 'Set it' : 'Make it now'}
      onOk={due ? set : c.apply}
      confirmLoading={c.busy}
      okButtonProps={{ disabled: !c.ready, danger: c.danger }}
    >
      <Form
        form={form}
        name="make"
        layout="vertical"
        requiredMark={false}
        preserve={false}
        initialValues={{ down: true }}
      >
        <div className="grid two" style={{ gap: '0 14px' }}>
          <Form.Item name="at" label="At" extra="Empty: now">
            <Input type="datetime-local" />
          </Form.Item>
          <Form.Item name="down" valuePropName="checked" label="Beforehand">
            <Checkbox disabled={!due}>Leases run down until then</Checkbox>
          </Form.Item>
          <Form.Item name="within" label="Undo it by itself within" extra="Empty: never">
            <InputNumber min={1} max={10000} suffix="minutes" />
          </Form.Item>
          <Form.Item name="above" label="if further clients go unserved, more than">
            <InputNumber min={0} suffix="clients" disabled={!v.within} />
          </Form.Item>
        </div>
      </Form>
      <Failure error={error} />
      {c.view}
    </Modal>
  )
}

/** One change in preparation, held against the plan as it is. */
function Detail({ name, make }: { name: string; make: (p: Prepared) => void }) {
  const queries = useQueryClient()
  const go = useNavigate()
  const gathering = useGathering()
  const [error, setError] = useState<unknown>()
  const one = useQuery({ queryKey: ['prepared', name], queryFn: () => get<Prepared>(at(name)) })
  const p = one.data
  const act = (method: string, part: string) => async () => {
    try {
      await call(method, at(name, part))
      setError(undefined)
    } catch (e) {
      setError(e)
    }
    queries.invalidateQueries()
  }
  if (!p) return <Failure error={one.error} />
  return (
    <>
      <Failure error={error ?? one.error} />
      {p.failed && <div className="note bad">{p.failed}.</div>}
      <div className="filters">
        {!p.watched && (
          <>
            <Button type="primary" disabled={p.edits.length === 0 || !p.result} onClick={() => make(p)}>
              Make it
            </Button>
            <Button
              disabled={gathering === p.name}
              onClick={() => {
                gatherIn(p.name)
                go('/plan')
              }}
            >
              Gather in it
            </Button>
            <Button disabled={p.edits.length === 0} onClick={act('POST', '/approval')}>
              Approve
            </Button>
            {p.due && <Button onClick={act('DELETE', '/due')}>Postpone</Button>}
          </>
        )}
        <Popconfirm
          title={`Give ${p.name} up?`}
          okText="Give it up"
          cancelText="Leave it"
          onConfirm={act('DELETE', '')}
        >
          <Button danger>Drop</Button>
        </Popconfirm>
      </div>
      {p.edits.length === 0 ? (
        <Empty>Nothing is gathered in it yet. Choose “Gather in it”, and change the plan as always.</Empty>
      ) : (
        <Table
          size="small"
          rowKey="number"
          pagination={{ pageSize: 20, hideOnSinglePage: true }}
          dataSource={p.edits.map((e, i) => ({ ...e, number: i + 1 }))}
          columns={editColumns((n) => act('DELETE', '/edits/' + n)())}
        />
      )}
      {p.approvals.map((a) => (
        <p key={a.by}>
          Approved by {a.by}, <When at={a.at} />
        </p>
      ))}
      {p.undo && (
        <p>
          Undone by itself, if more than {p.undo.above} clients more than before go unserved within {p.undo.within}.
        </p>
      )}
      {p.due?.runDown && !!p.runDown?.length && (
        <Table size="small" rowKey="scope" pagination={false} dataSource={p.runDown} columns={runDownColumns()} />
      )}
      {p.result && p.edits.length > 0 && (
        <>
          <h2 style={{ marginTop: 14 }}>What this does</h2>
          <Effects result={p.result} />
        </>
      )}
    </>
  )
}

/** Changes in preparation: gathered over days, made as a whole. */
export default function PreparedPage() {
  const [params, setParams] = useSearchParams()
  const all = usePrepared()
  const queries = useQueryClient()
  const [beginning, setBeginning] = useState(false)
  const [making, setMaking] = useState<Prepared | null>(null)
  const [error, setError] = useState<unknown>()
  const [form] = Form.useForm<{ name: string; note?: string }>()
  const open = params.get('open')
  const show = (name?: string) =>
    setParams(
      (p) => {
        if (name) p.set('open', name)
        else p.delete('open')
        return p
      },
      { replace: true },
    )
  const begin = async () => {
    try {
      const p = await call<Prepared>('POST', '/plan/prepared', {}, form.getFieldsValue())
      setError(undefined)
      queries.invalidateQueries()
      setBeginning(false)
      show(p.name)
    } catch (e) {
      setError(e)
    }
  }
  return (
    <>
      <div className="head">
        <div>
          <h1>Changes</h1>
          <span className="quiet">Gathered over days, by whoever takes part, and made as a whole</span>
        </div>
        <Button type="primary" onClick={() => setBeginning(true)}>
          Begin a change
        </Button>
      </div>
      <SubNav of="changes" />
      <Failure error={all.error} />
      <div className="panel flush">
        <Table<Prepared>
          size="small"
          rowKey="name"
          dataSource={all.data}
          loading={all.isLoading}
          pagination={false}
          className="clickable"
          locale={{
            emptyText: (
              <Empty>
                No change is in preparation. Begin one to gather edits, see what they do together, and make them at
                once, or at a moment that you set.
              </Empty>
            ),
          }}
          expandable={{
            expandRowByClick: true,
            expandedRowKeys: open ? [open] : [],
            onExpand: (on, p) => show(on ? p.name : undefined),
            expandedRowRender: (p) => <Detail name={p.name} make={setMaking} />,
          }}
          columns={preparedColumns()}
        />
      </div>
      <MakeIt of={making} onClose={() => setMaking(null)} />
      <Modal
        open={beginning}
        destroyOnHidden
        title="Begin a change"
        okText="Begin it"
        onOk={begin}
        onCancel={() => setBeginning(false)}
      >
        <Failure error={error} />
        <Form form={form} name="begin" layout="vertical" requiredMark={false} preserve={false} onFinish={begin}>
          <Form.Item name="name" label="Name">
            <Input autoFocus placeholder="looms-move" />
          </Form.Item>
          <Form.Item name="note" label="What it is for">
            <Input />
          </Form.Item>
          <button type="submit" hidden />
        </Form>
      </Modal>
    </>
  )
}
