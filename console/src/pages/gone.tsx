import { useQuery } from '@tanstack/react-query'
import { Table } from 'antd'
import { items, type Finding } from '../api/client'
import { Empty, Failure, paged } from '../parts/bits'
import { SubNav } from '../parts/subnav'
import { goneColumns } from '../columns/gone'

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
          columns={goneColumns()}
        />
      </div>
    </>
  )
}
