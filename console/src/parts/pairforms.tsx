import { useQuery, useQueryClient } from '@tanstack/react-query'
import { Button, Checkbox, Form, Input, Modal, Segmented } from 'antd'
import { useState } from 'react'
import {
  call,
  get,
  type Pair,
  type PairDone,
  type PairInvitation,
  type PairLines,
  type PairRevision,
  type Wish,
} from '../api/client'
import { Failure, When } from './bits'
import { Confirm } from './preview'

/** Opens this server to a second one. */
export function Invite({ invited }: { invited?: string | null }) {
  const [mode, setMode] = useState('load-sharing')
  const [line, setLine] = useState<PairInvitation | null>(null)
  const [error, setError] = useState<unknown>(null)
  const invite = async (v: { at: string; lead?: string }) => {
    setError(null)
    try {
      setLine(await call<PairInvitation>('POST', '/pair/invite', {}, { ...v, mode }))
    } catch (e) {
      setError(e)
    }
  }
  return (
    <section className="panel">
      <h2>Invite a second server</h2>
      <p className="quiet">This server goes on serving; the other takes over its plan and its leases.</p>
      <Form layout="vertical" onFinish={invite}>
        <Form.Item
          name="at"
          label="Where it reaches this server"
          rules={[{ required: true, message: 'a name or an address' }]}
        >
          <Input placeholder="bobbin.mill.example" />
        </Form.Item>
        <Form.Item label="Mode">
          <Segmented options={['load-sharing', 'hot-standby']} value={mode} onChange={(v) => setMode(String(v))} />
        </Form.Item>
        <Form.Item name="lead" label="Lead time">
          <Input placeholder="1h" />
        </Form.Item>
        <Button type="primary" htmlType="submit">
          Make an invitation
        </Button>
      </Form>
      <Failure error={error} />
      {line ? (
        <>
          <p>
            Run this on the other server; it is good once, <When at={line.until} />:
          </p>
          <pre className="code">yarnpost pair join {line.code}</pre>
        </>
      ) : (
        invited && (
          <p className="quiet">
            An invitation is open, until <When at={invited} />.
          </p>
        )
      )}
    </section>
  )
}

/** Makes this server the second of a pair. */
export function Join() {
  const queries = useQueryClient()
  const [error, setError] = useState<unknown>(null)
  const join = async (v: { code: string; confirm?: boolean }) => {
    setError(null)
    try {
      await call<PairDone>('POST', '/pair/join', {}, v)
      queries.invalidateQueries()
    } catch (e) {
      setError(e)
    }
  }
  return (
    <section className="panel">
      <h2>Join another server</h2>
      <p className="quiet">
        This server takes over the other&rsquo;s plan and leases, and becomes the second of the pair.
      </p>
      <Form layout="vertical" onFinish={join}>
        <Form.Item
          name="code"
          label="Invitation"
          rules={[{ required: true, message: 'paste the line that the other server made' }]}
        >
          <Input.TextArea rows={3} />
        </Form.Item>
        <Form.Item name="confirm" valuePropName="checked">
          <Checkbox>Give up what this server has of a plan and of leases</Checkbox>
        </Form.Item>
        <Button htmlType="submit">Join</Button>
      </Form>
      <Failure error={error} />
    </section>
  )
}

function Line({ name, list, keep }: { name: string; list: PairRevision[]; keep: () => void }) {
  return (
    <div>
      <h3>
        {name}{' '}
        <Button size="small" onClick={keep}>
          Keep this one
        </Button>
      </h3>
      <ul className="diff">
        {list.map((r) => (
          <li key={r.number}>
            <span className="quiet">
              revision {r.number}, {r.author}, <When at={r.at} />
            </span>
            <br />
            {r.lines.join('; ')}
          </li>
        ))}
      </ul>
    </div>
  )
}

/** Both lines of the plan, where both servers changed it. */
export function Settle({ pair }: { pair: Pair }) {
  const queries = useQueryClient()
  const q = useQuery({ queryKey: ['pair', 'lines'], queryFn: () => get<PairLines>('/pair/lines') })
  const [keep, setKeep] = useState('')
  const [error, setError] = useState<unknown>(null)
  const settle = async () => {
    try {
      await call<PairDone>('POST', '/pair/settle', {}, { keep, confirm: true })
      setKeep('')
      queries.invalidateQueries()
    } catch (e) {
      setError(e)
    }
  }
  const other = pair.partner?.name ?? ''
  return (
    <section className="panel">
      <h2>Both servers have changed the plan: choose one</h2>
      <Failure error={q.error ?? error} />
      {q.data && (
        <div className="grid two">
          <Line name={pair.own.name} list={q.data.own} keep={() => setKeep(pair.own.name)} />
          <Line name={other} list={q.data.partner} keep={() => setKeep(other)} />
        </div>
      )}
      <Modal
        open={keep !== ''}
        title={`Keep the plan of ${keep}`}
        okText="Keep it"
        onOk={settle}
        onCancel={() => setKeep('')}
      >
        <p>
          It comes into force on both servers. What the other one changed is kept aside, and can be applied again,
          revision by revision.
        </p>
      </Modal>
    </section>
  )
}

/** Revisions that were not chosen, each of which can be applied again. */
export function KeptAside() {
  const q = useQuery({ queryKey: ['pair', 'lines'], queryFn: () => get<PairLines>('/pair/lines') })
  const [wish, setWish] = useState<Wish | null>(null)
  if (!q.data?.aside.length) return null
  return (
    <section className="panel">
      <h2>Kept aside: changes of a plan that was not chosen</h2>
      <ul className="diff">
        {q.data.aside.map((r) => (
          <li key={r.key}>
            <span className="quiet">
              {r.key}: revision {r.number}, {r.author}, <When at={r.at} />
            </span>{' '}
            <Button size="small" onClick={() => setWish({ again: r.key ?? '' })}>
              Apply again
            </Button>
            <br />
            {r.lines.join('; ')}
          </li>
        ))}
      </ul>
      <Confirm title="Apply again what was kept aside" wish={wish} onClose={() => setWish(null)} />
    </section>
  )
}
