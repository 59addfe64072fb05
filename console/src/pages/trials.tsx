import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { App, Button, Form, Input, Select, Table } from 'antd'
import { useState } from 'react'
import { call, items, type Check, type Edit, type Trial, type TrialResult } from '../api/client'
import { useScopes } from '../api/scopes'
import { editOf, fieldsOf, type Fields } from '../edits/trial'
import { Empty, Failure, StatusMark } from '../parts/bits'
import { ItemForm } from '../parts/itemform'
import { Confirm } from '../parts/preview'
import { SubNav } from '../parts/subnav'
import { trialColumns, checkColumns } from '../columns/trials'

function Steps({ of }: { of: TrialResult }) {
  return (
    <>
      {of.steps.map((s, i) => (
        <div key={i}>
          <StatusMark status={s.good ? 'good' : 'bad'} word={s.what} />
          {s.millis ? <span className="quiet"> {s.millis.toFixed(1)} ms</span> : null}
        </div>
      ))}
    </>
  )
}

/** Proof from the client's seat, and from the host. */
export default function Trials() {
  const { message } = App.useApp()
  const queries = useQueryClient()
  const trials = useQuery({ queryKey: ['trials'], queryFn: () => items<Trial>('/trials'), refetchInterval: 10000 })
  const checks = useQuery({ queryKey: ['preflight'], queryFn: () => items<Check>('/preflight') })
  const scopes = useScopes()
  const [form, setForm] = useState<Trial | 'new' | null>(null)
  const [edits, setEdits] = useState<Edit[] | null>(null)
  const run = useMutation({
    mutationFn: (name: string) => call<TrialResult>('POST', '/trials/run', {}, { name }),
    onSuccess: (r) => {
      queries.invalidateQueries({ queryKey: ['trials'] })
      if (r.good) message.success(`Scope ${r.scope} is served as the plan says.`)
      else message.error(`Trial of scope ${r.scope} failed.`)
    },
  })
  const look = useMutation({
    mutationFn: () => call<Check[]>('POST', '/preflight'),
    onSuccess: (list) => queries.setQueryData(['preflight'], list),
  })
  const old = form && form !== 'new' ? form : undefined
  return (
    <>
      <div className="head">
        <div>
          <h1>Trials</h1>
          <span className="quiet">
            Real exchanges that Yarn Post makes as a client, compared with the plan, timed, and given back
          </span>
        </div>
        <Button type="primary" onClick={() => setForm('new')}>
          Add a trial
        </Button>
      </div>
      <SubNav of="plan" />
      <Failure error={trials.error ?? run.error ?? look.error} />
      <div className="grid">
        <div className="panel flush">
          <Table<Trial>
            size="small"
            rowKey="name"
            dataSource={trials.data}
            pagination={false}
            locale={{ emptyText: <Empty>No trial is planned. Add one for each scope that must never fail.</Empty> }}
            expandable={{
              expandedRowRender: (t) =>
                t.last ? <Steps of={t.last} /> : <span className="quiet">It was not run yet.</span>,
            }}
            columns={trialColumns(run, setForm, setEdits)}
          />
        </div>
        <div className="panel flush">
          <div className="filters" style={{ padding: '10px 14px 0' }}>
            <h2 style={{ margin: 0, flex: 1 }}>The host</h2>
            <Button size="small" loading={look.isPending} onClick={() => look.mutate()}>
              Look again
            </Button>
          </div>
          <Table<Check>
            size="small"
            rowKey="name"
            dataSource={checks.data}
            pagination={false}
            locale={{ emptyText: <Empty>The look at the start is not over yet.</Empty> }}
            columns={checkColumns()}
          />
        </div>
      </div>
      {form && (
        <ItemForm<Fields>
          kind="trial"
          open
          of={old}
          title={old ? `Edit trial ${old.name}` : 'Add a trial'}
          onClose={() => setForm(null)}
          hint="Give a name and a scope."
          initial={fieldsOf(old)}
          toEdit={(v) => editOf(v, old)}
          fields={() => (
            <>
              <Form.Item name="name" label="Name">
                <Input placeholder="looms-served" />
              </Form.Item>
              <Form.Item name="scope" label="Scope">
                <Select showSearch options={scopes.data?.map((s) => ({ value: s.name, label: s.name }))} />
              </Form.Item>
              <Form.Item name="hardware" label="Hardware address">
                <Input className="mono" placeholder="one made up from the name" />
              </Form.Item>
              <Form.Item name="vendor" label="Vendor class">
                <Input />
              </Form.Item>
              <Form.Item name="circuit" label="Circuit">
                <Input className="mono" />
              </Form.Item>
              <Form.Item name="every" label="Every" extra="Such as 15m; empty for on demand alone">
                <Input />
              </Form.Item>
              <Form.Item name="note" label="Note">
                <Input />
              </Form.Item>
            </>
          )}
        />
      )}
      <Confirm title="Remove the trial" wish={edits} onClose={() => setEdits(null)} />
    </>
  )
}
