import { useQuery } from '@tanstack/react-query'
import { Table } from 'antd'
import { items, type Finding } from '../api/client'
import { Empty, Failure, paged, When } from '../parts/bits'
import { Severity } from '../parts/findings'
import { SubNav } from '../parts/subnav'

/** What audits found and is gone. */
export default function GoneFindings() {
  const list = useQuery({ queryKey: ['audit', 'gone'], queryFn: () => items<Finding>('/audit/past', { days: 30 }) })
  return (
    <>
      <div className="head">
        <div>
          <h1>Gone</h1>
          <span className="quiet">What audits of the last 30 days found, and is there no more</span>
        </div>
      </div>
      <SubNav of="audit" />
      <Failure error={list.error} />
      <div className="panel flush">
        <Table<Finding>
          size="small"
          rowKey="key"
          dataSource={list.data}
          loading={list.isLoading}
          pagination={paged}
          locale={{ emptyText: <Empty>Nothing went lately.</Empty> }}
          columns={[
            { title: 'Severity', width: 100, render: (_, f) => <Severity of={f.severity} /> },
            { title: 'Subject', width: 220, dataIndex: 'subject' },
            { title: 'What it was', dataIndex: 'text' },
            { title: 'From', width: 100, render: (_, f) => <When at={f.first} /> },
            { title: 'Gone', width: 100, render: (_, f) => <When at={f.gone} /> },
          ]}
        />
      </div>
    </>
  )
}
