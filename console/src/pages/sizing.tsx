import { useQuery } from '@tanstack/react-query'
import { Form, Input, InputNumber } from 'antd'
import { call, get, type Size, type SubnetInfo } from '../api/client'
import { Failure, Folding, Mono } from '../parts/bits'
import { SubNav } from '../parts/subnav'

interface Fields {
  seats?: number
  arrivals?: number
  stay?: string
  releases?: number
  lease?: string
  pool?: number
  least?: string
  each?: number
  because?: string
}

/** What a demand needs, and what a subnet holds. */
export default function Sizing() {
  const [form] = Form.useForm<Fields>()
  const v = (Form.useWatch([], form) ?? {}) as Fields
  const [net] = Form.useForm<{ subnet?: string; split?: number }>()
  const n = (Form.useWatch([], net) ?? {}) as { subnet?: string; split?: number }
  const size = useQuery({
    queryKey: ['size', JSON.stringify(v)],
    queryFn: () =>
      call<Size>(
        'POST',
        '/capacity/size',
        {},
        {
          ...Object.fromEntries(Object.entries(v).filter(([, x]) => x !== undefined && x !== null && x !== '')),
          releases: v.releases ? v.releases / 100 : undefined,
        },
      ),
    enabled: !!(v.seats || v.arrivals),
    retry: false,
    placeholderData: (old) => old,
  })
  const subnet = useQuery({
    queryKey: ['subnet', n.subnet, n.split],
    queryFn: () => get<SubnetInfo>('/subnet', { subnet: n.subnet, split: n.split ?? 0 }),
    enabled: !!n.subnet && n.subnet.includes('/'),
    retry: false,
    placeholderData: (old) => old,
  })
  const s = size.data
  const i = subnet.data
  return (
    <>
      <div className="head">
        <div>
          <h1>Sizing</h1>
          <span className="quiet">What a demand needs, and what a subnet holds; nothing here changes the plan</span>
        </div>
      </div>
      <SubNav of="capacity" />
      <div className="grid two" style={{ alignItems: 'start' }}>
        <section className="panel">
          <h2>How large has a pool to be?</h2>
          <Form
            form={form}
            layout="horizontal"
            labelCol={{ span: 10 }}
            initialValues={{ arrivals: 600, stay: '45m', lease: '30m' }}
            requiredMark={false}
          >
            <Form.Item name="seats" label="Always there">
              <InputNumber min={0} suffix="clients" style={{ width: 180 }} />
            </Form.Item>
            <Form.Item name="arrivals" label="Come, in a busy hour">
              <InputNumber min={0} suffix="clients" style={{ width: 180 }} />
            </Form.Item>
            <Form.Item name="stay" label="and stay">
              <Input style={{ width: 180 }} placeholder="45m" />
            </Form.Item>
            <Form.Item name="releases" label="Of those, release">
              <InputNumber min={0} max={100} suffix="%" style={{ width: 180 }} />
            </Form.Item>
            <Form.Item name="lease" label="Lease time">
              <Input style={{ width: 180 }} placeholder="the longest that fits" />
            </Form.Item>
            <Form.Item name="pool" label="Addresses there are">
              <InputNumber min={0} style={{ width: 180 }} placeholder="to be worked out" />
            </Form.Item>
            <Form.Item name="each" label="Each has a prefix of /">
              <InputNumber min={1} max={128} style={{ width: 180 }} placeholder="or an address" />
            </Form.Item>
            <Form.Item name="least" label="A lease at least">
              <Input style={{ width: 180 }} placeholder="24h" />
            </Form.Item>
            <Form.Item name="because" label="because">
              <Input placeholder="who had what is kept for a day" />
            </Form.Item>
          </Form>
          <Failure error={size.error} />
          {s && !size.error && (
            <>
              <div className="sums">
                <span>
                  <b>{s.pool.toLocaleString('en')}</b>
                  {s.within ? 'prefixes' : 'addresses'}
                </span>
                {s.within && (
                  <span>
                    <b>/{s.within}</b>has as many
                  </span>
                )}
                <span>
                  <b>{s.lease}</b>lease time
                </span>
                <span>
                  <b>{s.peak.toLocaleString('en')}</b>peak
                </span>
                <span>
                  <b>{s.renewals.toFixed(2)}</b>renewals a second
                </span>
                <span>
                  <b>{(100 * s.refused).toFixed(2)} %</b>refused
                </span>
              </div>
              <p>
                {s.fits ? '●' : '▲'} {s.text}.
              </p>
              <p className="quiet" style={{ margin: 0 }}>
                Model: {s.model}.
              </p>
            </>
          )}
        </section>
        <section className="panel">
          <h2>What is in a subnet?</h2>
          <Form form={net} layout="horizontal" labelCol={{ span: 6 }} initialValues={{ subnet: '10.40.64.0/20' }}>
            <Form.Item name="subnet" label="Subnet">
              <Input className="mono" placeholder="10.40.64.0/20 or 2001:db8:40::/48" />
            </Form.Item>
            <Form.Item name="split" label="Split into /">
              <InputNumber min={0} max={128} />
            </Form.Item>
          </Form>
          <Failure error={subnet.error} />
          {i && !subnet.error && (
            <dl className="facts">
              {[
                ['Subnet', i.subnet],
                ['First host', i.first],
                ['Last host', i.last],
                ['Broadcast', i.broadcast],
                ['Mask', i.mask],
                ['Half of', i.around],
                ['Other half', i.other],
              ]
                .filter(([, x]) => x)
                .map(([what, x]) => (
                  <span key={what} style={{ display: 'contents' }}>
                    <dt>{what}</dt>
                    <dd>
                      <Mono>{x}</Mono>
                    </dd>
                  </span>
                ))}
              <dt>Hosts</dt>
              <dd>{BigInt(i.hosts).toLocaleString('en')}</dd>
              {i.scopes.length > 0 && (
                <>
                  <dt>Scopes there</dt>
                  <dd>{i.scopes.join(', ')}</dd>
                </>
              )}
              {i.parts.length > 0 && (
                <>
                  <dt>Splits into</dt>
                  <dd>
                    {i.partCount}: <Folding text={i.parts.slice(0, 32).join(', ')} />
                    {Number(i.partCount) > 32 && ' …'}
                  </dd>
                </>
              )}
            </dl>
          )}
        </section>
      </div>
    </>
  )
}
