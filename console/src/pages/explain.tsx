import { useQuery } from '@tanstack/react-query'
import { Button, Form, Input, Select, Table } from 'antd'
import { useSearchParams } from 'react-router'
import { call, items, type Explanation, type Vendor } from '../api/client'
import { useScopes } from '../api/scopes'
import { Empty, Failure } from '../parts/bits'
import { Message } from '../parts/message'
import { SubNav } from '../parts/subnav'
import { optionColumns } from '../columns/explain'

const fields = [
  'hardware',
  'scope',
  'relay',
  'vendor',
  'userClass',
  'circuit',
  'hostname',
  'identifier',
  'duid',
  'iaid',
  'delegated',
  'message',
  'address',
  'wants',
] as const
type Fields = Partial<Record<(typeof fields)[number], string>>

/** What a hypothetical client would be answered, and each step that leads there. */
export default function Explain() {
  const [params, setParams] = useSearchParams()
  const asked = Object.fromEntries(fields.map((f) => [f, params.get(f) ?? undefined])) as Fields
  const ready = !!(asked.hardware || asked.duid || asked.scope || asked.relay)
  const body = {
    ...asked,
    wants: asked.wants?.split(/[\s,]+/).filter(Boolean),
    delegated: asked.delegated ? true : undefined,
    known: !!asked.hardware && !asked.duid && !asked.vendor && !asked.relay,
  }
  const result = useQuery({
    queryKey: ['explain', body],
    queryFn: () => call<Explanation>('POST', '/explain', {}, body),
    enabled: ready,
    retry: false,
  })
  const scopes = useScopes()
  const vendors = useQuery({ queryKey: ['vendors'], queryFn: () => items<Vendor>('/vendors') })
  const x = result.data
  const served = x && (x.outcome === 'offered' || x.outcome === 'acknowledged' || x.outcome === 'informed')
  return (
    <>
      <div className="head">
        <div>
          <h1>Explain</h1>
          <span className="quiet">
            What a client would be answered now, and why. Nothing is touched; the code that decides is the one that
            serves.
          </span>
        </div>
      </div>
      <SubNav of="unserved" />
      <div className="grid" style={{ gridTemplateColumns: '260px minmax(0, 1fr)', alignItems: 'start' }}>
        <section className="panel">
          <Form
            layout="vertical"
            key={params.toString()}
            initialValues={asked}
            requiredMark={false}
            onFinish={(v: Fields) =>
              setParams(Object.fromEntries(Object.entries(v).filter(([, t]) => t)) as Record<string, string>)
            }
          >
            <Form.Item name="hardware" label="Hardware address" extra="Alone: as this client asked last">
              <Input className="mono" placeholder="02:40:18:00:00:07" />
            </Form.Item>
            <Form.Item name="duid" label="DUID" extra="Of a client of IPv6">
              <Input className="mono" placeholder="00:03:00:01:02:40:18:00:00:07" />
            </Form.Item>
            <Form.Item name="scope" label="On the link of scope">
              <Select
                allowClear
                showSearch
                options={scopes.data?.map((s) => ({ value: s.name, label: `${s.name}  ${s.subnet}` }))}
              />
            </Form.Item>
            <Form.Item name="relay" label="Through relay">
              <Input className="mono" />
            </Form.Item>
            <Form.Item name="circuit" label="Circuit">
              <Input className="mono" />
            </Form.Item>
            <Form.Item name="vendor" label="Vendor class">
              <Select
                allowClear
                showSearch
                options={vendors.data?.map((v) => ({ value: v.class, label: `${v.class} (${v.clients})` }))}
              />
            </Form.Item>
            <Form.Item name="userClass" label="User class">
              <Input />
            </Form.Item>
            <Form.Item name="wants" label="Asks for options">
              <Input className="mono" placeholder="66, 150" />
            </Form.Item>
            <Form.Item name="message" label="Message">
              <Select
                allowClear
                placeholder="DISCOVER"
                options={['DISCOVER', 'REQUEST', 'INFORM', 'BOOTP'].map((m) => ({ value: m, label: m }))}
              />
            </Form.Item>
            <Form.Item name="address" label="Address it asks for">
              <Input className="mono" />
            </Form.Item>
            <Button type="primary" htmlType="submit" block>
              Explain
            </Button>
          </Form>
        </section>
        <div className="grid">
          <Failure error={result.error} />
          {!ready && (
            <div className="panel">
              <Empty>Give a hardware address, or the scope whose link the client is on.</Empty>
            </div>
          )}
          {x && (
            <>
              <section className={'panel verdict' + (served ? '' : ' bad')}>
                <span className="mark" aria-hidden>
                  {served ? '●' : '▲'}
                </span>
                <div>
                  <h1>
                    {x.hardware} {x.text}
                  </h1>
                  <span className="quiet">
                    {[
                      x.scope && 'scope ' + x.scope,
                      x.link && 'link ' + x.link,
                      x.lease && 'for ' + x.lease,
                      x.reservation && 'by reservation ' + x.reservation,
                      x.rules.length > 0 && 'rules ' + x.rules.join(', '),
                    ]
                      .filter(Boolean)
                      .join(' · ')}
                  </span>
                  {x.withheld && <div className="note bad">Nothing would be sent: {x.withheld}.</div>}
                </div>
              </section>
              <section className="panel">
                <h2>How it is decided</h2>
                <ol className="trail">
                  {x.trail.map((s, i) => (
                    <li key={i}>{s}</li>
                  ))}
                </ol>
              </section>
              {x.options.length > 0 && (
                <section className="panel flush">
                  <h2>What the plan gives, and from where</h2>
                  <Table
                    size="small"
                    rowKey={(o) => (o.book ?? '') + o.code}
                    dataSource={x.options}
                    pagination={false}
                    columns={optionColumns()}
                  />
                </section>
              )}
              <section className="panel">
                <Message title="The reply" of={x.reply} />
                {x.omitted.length > 0 && (
                  <div className="note bad">
                    Does not fit the largest message the client takes: {x.omitted.join(', ')}
                  </div>
                )}
                {x.reply && (
                  <details style={{ marginTop: 8 }}>
                    <summary className="quiet">Octets</summary>
                    <div className="hex">{x.reply.bytes.match(/../g)?.join(' ')}</div>
                  </details>
                )}
              </section>
            </>
          )}
        </div>
      </div>
    </>
  )
}
