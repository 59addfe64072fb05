import { useQuery } from '@tanstack/react-query'
import { Table } from 'antd'
import { items, type UnmetOption } from '../api/client'
import { Empty, Failure, plural } from '../parts/bits'
import { SubNav } from '../parts/subnav'
import { wishColumns } from '../columns/wishes'

/** What clients ask for and nobody set. */
export default function Wishes() {
  const list = useQuery({ queryKey: ['unmet'], queryFn: () => items<UnmetOption>('/unmet'), refetchInterval: 30000 })
  return (
    <>
      <div className="head">
        <div>
          <h1>Wishes</h1>
          <span className="quiet">Options that clients with a lease ask for and nobody set</span>
        </div>
      </div>
      <SubNav of="unserved" />
      <Failure error={list.error} />
      <div className="panel flush">
        <Table<UnmetOption>
          size="small"
          rowKey="code"
          dataSource={list.data}
          loading={list.isLoading}
          pagination={false}
          locale={{ emptyText: <Empty>Clients get everything they ask for.</Empty> }}
          columns={wishColumns()}
          footer={() => (
            <span className="quiet">
              {plural(list.data?.length ?? 0, 'option')}. Setting one in a scope's options serves its clients from their
              next renewal.
            </span>
          )}
        />
      </div>
    </>
  )
}
