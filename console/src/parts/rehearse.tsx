import { useMutation, useQuery } from '@tanstack/react-query'
import { Button, Drawer, Form, Input, Progress, Select, Switch } from 'antd'
import { useState } from 'react'
import { call, get, type Edit, type Rehearsal, type Scope } from '../api/client'
import { lines } from '../edits/text'
import { count, Failure, plural } from './bits'

const at = (t?: string | null) =>
  t
    ? new Date(t).toLocaleString('en-GB', {
        weekday: 'short',
        day: 'numeric',
        month: 'short',
        hour: '2-digit',
        minute: '2-digit',
        timeZone: 'UTC',
      })
    : 'never'

/** Plays what happened against edits, and tells how far it is and what came of it. */
export function RehearsalView({ edits, gone, since }: { edits: Edit[]; gone?: boolean; since: string }) {
  const [id, setID] = useState<number | null>(null)
  const begin = useMutation({
    mutationFn: () => call<Rehearsal>('POST', '/rehearsals', {}, { since, edits, gone: gone || undefined }),
    onSuccess: (r) => setID(r.id),
  })
  const play = useQuery({
    queryKey: ['rehearsal', id],
    queryFn: () => get<Rehearsal>('/rehearsals/' + id),
    enabled: id !== null,
    refetchInterval: (q) => (q.state.data?.over ? false : 300),
  })
  const r = id === null ? undefined : play.data
  const row = (what: string, as: React.ReactNode, with_: React.ReactNode) => (
    <tr key={what}>
      <td>{what}</td>
      <td className="num">{as}</td>
      <td className="num">{with_}</td>
    </tr>
  )
  return (
    <div>
      <Button onClick={() => begin.mutate()} loading={begin.isPending || (r && !r.over)}>
        Rehearse it on the last {since.replace('d', ' days')}
      </Button>
      <Failure error={begin.error ?? play.error} />
      {r && !r.over && <Progress percent={Math.round(100 * r.done)} format={() => r.step} />}
      {r?.failed && <div className="note bad">{r.failed}</div>}
      {r?.as && r.with && (
        <>
          <table className="plain" style={{ marginTop: 10, width: '100%' }}>
            <thead>
              <tr>
                <th>{plural(r.stays, 'stay')}</th>
                <th className="num">as it is</th>
                <th className="num">with the change</th>
              </tr>
            </thead>
            <tbody>
              {row('Clients refused', r.as.refused, <b>{r.with.refused}</b>)}
              {row('Of those, never served', r.as.never, r.with.never)}
              {row('First refusal', at(r.as.firstRefused), at(r.with.firstRefused))}
              {row('Messages a second, busiest hour', r.as.busiestHour.toFixed(2), r.with.busiestHour.toFixed(2))}
              {row('Renewals a second', r.as.renewals.toFixed(2), r.with.renewals.toFixed(2))}
              {r.with.scopes
                .filter((s) => s.size > 0)
                .map((s) =>
                  row(
                    s.prefixes
                      ? `Peak of the prefixes of ${s.scope}`
                      : `Peak of ${s.scope} (really ${r.really.find((x) => x.scope === s.scope)?.peak.toLocaleString('en') ?? '?'})`,
                    r
                      .as!.scopes.find((x) => x.scope === s.scope && x.prefixes === s.prefixes)
                      ?.peak.toLocaleString('en') ?? '',
                    `${s.peak.toLocaleString('en')} of ${count(s.size)}`,
                  ),
                )}
            </tbody>
          </table>
          {r.with.who.length > 0 && (
            <details style={{ marginTop: 8 }}>
              <summary>Who would have been refused</summary>
              <table className="plain">
                <tbody>
                  {r.with.who.slice(0, 30).map((w, i) => (
                    <tr key={i}>
                      <td>{at(w.at)}</td>
                      <td className="mono">{w.hardware}</td>
                      <td>{w.hostname}</td>
                      <td>{w.why}</td>
                      <td className="quiet">{w.waited ? 'waited ' + w.waited : 'never served'}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </details>
          )}
        </>
      )}
    </div>
  )
}

interface Fields {
  lease?: string
  pools?: string
  gone?: boolean
  since?: string
}

/** What if this scope had another lease time, other pools, or one server less. */
export function Rehearse({ open, scope, onClose }: { open: boolean; scope: Scope; onClose: () => void }) {
  const [form] = Form.useForm<Fields>()
  const v = Form.useWatch([], form) as Fields | undefined
  const edits: Edit[] = []
  const pools = lines(v?.pools)
  if (v && (v.lease !== scope.leaseSet || pools.join() !== scope.pools.join()))
    edits.push({
      op: 'edit',
      kind: 'scope',
      name: scope.name,
      scope: {
        lease: v.lease !== scope.leaseSet ? v.lease : undefined,
        pools: pools.join() !== scope.pools.join() ? pools : undefined,
      },
    })
  return (
    <Drawer open={open} onClose={onClose} size={620} destroyOnHidden title={`Rehearse a change of scope ${scope.name}`}>
      <p className="quiet" style={{ marginTop: 0 }}>
        What happened is played again, by the code that serves, with the plan as it is and with the change. Nothing is
        changed.
      </p>
      <Form
        form={form}
        layout="vertical"
        preserve={false}
        initialValues={{ lease: scope.leaseSet, pools: scope.pools.join('\n'), since: '7d' }}
      >
        <Form.Item name="lease" label="Lease time">
          <Input style={{ width: 160 }} />
        </Form.Item>
        <Form.Item name="pools" label="Pools, one a line">
          <Input.TextArea className="mono" autoSize={{ minRows: 1, maxRows: 6 }} />
        </Form.Item>
        <Form.Item name="gone" label="One server of the pair is gone" valuePropName="checked">
          <Switch size="small" />
        </Form.Item>
        <Form.Item name="since" label="Played on">
          <Select
            style={{ width: 160 }}
            options={[
              { value: '1d', label: 'the last day' },
              { value: '7d', label: 'the last week' },
              { value: '28d', label: 'the last 4 weeks' },
            ]}
          />
        </Form.Item>
      </Form>
      <RehearsalView
        key={JSON.stringify([edits, v?.gone, v?.since])}
        edits={edits}
        gone={v?.gone}
        since={v?.since ?? '7d'}
      />
    </Drawer>
  )
}
