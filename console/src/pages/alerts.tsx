import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { App, Button, DatePicker, Form, Input, Modal, Select, Table } from 'antd'
import dayjs from 'dayjs'
import { useState } from 'react'
import { call, items, type Alert } from '../api/client'
import { Empty, Failure, Mono, paged, When } from '../parts/bits'
import { SubNav } from '../parts/subnav'
import { alertColumns } from '../columns/alerts'

interface Target {
  name: string
  url: string
  severity: string
  secret?: string
  signed?: boolean
  waiting?: number
  failed?: string
}

/** Alerts that stand and stood, and where they go. */
export default function Alerts() {
  const queries = useQueryClient()
  const { message } = App.useApp()
  const [quiet, setQuiet] = useState<Alert | null>(null)
  const [adding, setAdding] = useState(false)
  const standing = useQuery({ queryKey: ['alerts'], queryFn: () => items<Alert>('/alerts'), refetchInterval: 10000 })
  const past = useQuery({ queryKey: ['alerts', 'past'], queryFn: () => items<Alert>('/alerts', { past: true }) })
  const targets = useQuery({ queryKey: ['alerts', 'targets'], queryFn: () => items<Target>('/alerts/targets') })
  const silence = useMutation({
    mutationFn: (v: { until: dayjs.Dayjs; reason: string }) =>
      call('POST', '/alerts/silences', {}, { key: quiet!.key, until: v.until.toISOString(), reason: v.reason }),
    onSuccess: () => {
      setQuiet(null)
      queries.invalidateQueries({ queryKey: ['alerts'] })
    },
  })
  const put = useMutation({
    mutationFn: (v: Target) => call('POST', '/alerts/targets', {}, v),
    onSuccess: () => {
      setAdding(false)
      queries.invalidateQueries({ queryKey: ['alerts'] })
    },
  })
  const act = async (what: () => Promise<unknown>, done?: string) => {
    try {
      const out = (await what()) as { text?: string } | undefined
      message.success(done ?? `${out?.text}.`)
    } catch (e) {
      message.error((e as Error).message)
    }
    queries.invalidateQueries({ queryKey: ['alerts'] })
  }
  return (
    <>
      <div className="head">
        <div>
          <h1>Alerts</h1>
          <span className="quiet">Each fires once and clears once</span>
        </div>
      </div>
      <SubNav of="audit" />
      <Failure error={standing.error} />
      <div className="panel flush">
        <Table<Alert>
          size="small"
          rowKey="key"
          dataSource={standing.data}
          loading={standing.isLoading}
          pagination={paged}
          locale={{ emptyText: <Empty>No alert stands.</Empty> }}
          columns={alertColumns(setQuiet)}
        />
      </div>
      <div className="grid two" style={{ marginTop: 14, alignItems: 'start' }}>
        <section className="panel">
          <h2>Where they go</h2>
          <Failure error={targets.error} />
          {targets.data?.length === 0 && (
            <Empty>Nowhere but here and to the metrics. Syslog and webhooks can have them too.</Empty>
          )}
          {targets.data?.map((t) => (
            <div key={t.name} className="note">
              <b>{t.name}</b> <Mono>{t.url}</Mono>, {t.severity} and worse{t.signed && ', signed'}
              {!!t.waiting && (
                <div>
                  ▲ {t.waiting} waiting: {t.failed}
                </div>
              )}
              <div>
                <Button
                  type="link"
                  size="small"
                  onClick={() => act(() => call('POST', `/alerts/targets/${t.name}/try`))}
                >
                  Try it
                </Button>
                <Button
                  type="link"
                  size="small"
                  danger
                  onClick={() => act(() => call('DELETE', `/alerts/targets/${t.name}`), `${t.name} is removed.`)}
                >
                  Remove
                </Button>
              </div>
            </div>
          ))}
          <Button onClick={() => setAdding(true)}>Add a target</Button>
        </section>
        <section className="panel">
          <h2>Ended lately</h2>
          {past.data?.length === 0 && <Empty>None.</Empty>}
          <table style={{ width: '100%', borderSpacing: '0 3px' }}>
            <tbody>
              {past.data?.slice(0, 12).map((a) => (
                <tr key={a.key + a.ended}>
                  <td>
                    {a.subject} <span className="quiet">{a.code}</span>
                  </td>
                  <td className="quiet" style={{ textAlign: 'right' }}>
                    <When at={a.ended} />
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
      </div>
      <Modal
        open={quiet !== null}
        title={`Silence ${quiet?.subject}`}
        onCancel={() => setQuiet(null)}
        footer={null}
        destroyOnHidden
      >
        <Form
          layout="vertical"
          initialValues={{ until: dayjs().add(1, 'day') }}
          onFinish={(v) => silence.mutate(v)}
          requiredMark={false}
        >
          <Form.Item name="until" label="Until">
            <DatePicker showTime maxDate={dayjs().add(1, 'year')} />
          </Form.Item>
          <Form.Item name="reason" label="Why">
            <Input />
          </Form.Item>
          <Button type="primary" htmlType="submit" loading={silence.isPending}>
            Silence
          </Button>
          <Failure error={silence.error} />
        </Form>
      </Modal>
      <Modal
        open={adding}
        title="Have alerts go somewhere"
        onCancel={() => setAdding(false)}
        footer={null}
        destroyOnHidden
      >
        <Form
          layout="vertical"
          initialValues={{ severity: 'warning' }}
          onFinish={(v: Target) => put.mutate(v)}
          requiredMark={false}
        >
          <Form.Item name="name" label="Name" rules={[{ required: true, message: 'A name is needed' }]}>
            <Input placeholder="desk" />
          </Form.Item>
          <Form.Item
            name="url"
            label="Where"
            extra="https://host/path for CloudEvents; syslog+udp, syslog+tcp or syslog+tls://host"
            rules={[{ required: true, message: 'Say where' }]}
          >
            <Input className="mono" placeholder="https://desk.mill.example/hooks/dhcp" />
          </Form.Item>
          <Form.Item name="severity" label="From">
            <Select options={['note', 'warning', 'trouble'].map((value) => ({ value, label: value }))} />
          </Form.Item>
          <Form.Item name="secret" label="Secret to sign with">
            <Input.Password autoComplete="off" />
          </Form.Item>
          <Button type="primary" htmlType="submit" loading={put.isPending}>
            Add it
          </Button>
          <Failure error={put.error} />
        </Form>
      </Modal>
    </>
  )
}
