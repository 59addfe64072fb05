import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { App, Button, DatePicker, Form, InputNumber, Select, Table } from 'antd'
import dayjs from 'dayjs'
import { Link } from 'react-router'
import { api, call, get, items, type Report, type ReportSchedule } from '../api/client'
import { reportColumns } from '../columns/reports'
import { Empty, Failure, paged, When } from '../parts/bits'
import { SubNav } from '../parts/subnav'

interface Fields {
  every: string
  begins: dayjs.Dayjs | null
  keep: number
}

const spans = [
  { value: '', label: 'never' },
  { value: '1d', label: 'every day' },
  { value: '7d', label: 'every week' },
  { value: '28d', label: 'every four weeks' },
]

/** Reports that are made on schedule: when, and those that are kept. */
export default function Reports() {
  const queries = useQueryClient()
  const { message } = App.useApp()
  const schedule = useQuery({
    queryKey: ['reports', 'schedule'],
    queryFn: () => get<ReportSchedule>('/audit/schedule'),
  })
  const list = useQuery({
    queryKey: ['reports'],
    queryFn: () => items<Report>('/audit/reports'),
    refetchInterval: 15000,
  })
  const set = useMutation({
    mutationFn: (v: Fields) =>
      call<ReportSchedule>(
        'PUT',
        '/audit/schedule',
        {},
        { every: v.every, begins: v.begins?.toISOString(), keep: v.keep },
      ),
    onSuccess: () => {
      message.success('Kept.')
      queries.invalidateQueries({ queryKey: ['reports'] })
    },
  })
  const c = schedule.data
  return (
    <>
      <div className="head">
        <div>
          <h1>Reports</h1>
          <span className="quiet">
            For readers without access: made on schedule, kept here, and sent{' '}
            <Link to="/audit/alerts">where alerts go</Link>
          </span>
        </div>
        <Button href={api + '/audit/report'}>One of now</Button>
      </div>
      <SubNav of="audit" />
      <Failure error={schedule.error ?? list.error} />
      {c && (
        <section className="panel apart">
          <Form<Fields>
            key={JSON.stringify(c)}
            layout="inline"
            initialValues={{
              every: c.every,
              begins: c.every ? dayjs(c.begins) : dayjs().add(1, 'day').hour(6).minute(0).second(0),
              keep: c.keep || 12,
            }}
            onFinish={(v) => set.mutate(v)}
          >
            <Form.Item name="every" label="Made">
              <Select
                className="span"
                options={
                  spans.some((s) => s.value === c.every)
                    ? spans
                    : [...spans, { value: c.every, label: 'every ' + c.every }]
                }
              />
            </Form.Item>
            <Form.Item name="begins" label="from">
              <DatePicker showTime={{ format: 'HH:mm' }} />
            </Form.Item>
            <Form.Item name="keep" label="Kept">
              <InputNumber min={1} max={1000} />
            </Form.Item>
            <Button htmlType="submit" loading={set.isPending}>
              Keep this
            </Button>
            {c.next && (
              <span className="quiet beside">
                The next is made <When at={c.next} />
              </span>
            )}
          </Form>
          <Failure error={set.error} />
        </section>
      )}
      <div className="panel flush">
        <Table<Report>
          size="small"
          rowKey="number"
          dataSource={list.data}
          loading={list.isLoading}
          pagination={paged}
          locale={{ emptyText: <Empty>None was made on schedule yet. Say above when one is to be.</Empty> }}
          columns={reportColumns}
        />
      </div>
    </>
  )
}
