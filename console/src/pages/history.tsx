import { useQuery } from '@tanstack/react-query'
import { DatePicker, Table } from 'antd'
import { useSearchParams } from 'react-router'
import { items, type LeaseEvent } from '../api/client'
import { Empty, Failure, paged } from '../parts/bits'
import { SubNav } from '../parts/subnav'
import { eventColumns } from '../columns/history'
import { usePut, Search } from '../parts/filters'

/** Who had an address, and where a client has been. */
export default function History() {
  const [params] = useSearchParams()
  const who = params.get('who') ?? ''
  const at = params.get('at') ?? ''
  const isAddress =
    /^(\d+\.\d+\.\d+\.\d+|[\da-f]*:[\da-f:]*:[\da-f]*(\/\d+)?)$/i.test(who.trim()) &&
    !/^([\da-f]{1,2}:){5,}[\da-f]{1,2}$/i.test(who.trim())
  const q = useQuery({
    queryKey: ['history', who, at],
    enabled: who !== '',
    retry: false,
    queryFn: () => items<LeaseEvent>('/history', { who: who.trim(), at: (isAddress && at) || undefined, limit: 500 }),
  })
  const put = usePut()
  return (
    <>
      <div className="head">
        <div>
          <h1>History</h1>
          <span className="quiet">Who had an address, and when; where a client has been</span>
        </div>
      </div>
      <SubNav of="leases" />
      <div className="filters">
        <Search
          value={who}
          hint="Address, hardware address, DUID or host name"
          width={340}
          autoFocus
          onSearch={(v) => put('who', v)}
        />
        {isAddress && (
          <DatePicker
            showTime
            placeholder="at this moment"
            onChange={(d) => put('at', d ? d.toDate().toISOString() : undefined)}
          />
        )}
        {at && <span className="quiet">who had it at {new Date(at).toLocaleString()}</span>}
      </div>
      <Failure error={q.error} />
      <div className="panel flush">
        <Table<LeaseEvent>
          size="small"
          rowKey={(e) => e.at + e.address + e.status}
          dataSource={who ? q.data : []}
          loading={q.isLoading && who !== ''}
          className="dense"
          scroll={{ x: 'max-content' }}
          pagination={{ ...paged, pageSize: 100 }}
          locale={{
            emptyText: (
              <Empty>
                {who
                  ? at
                    ? 'Nobody held it then.'
                    : 'Nothing is on record since history is kept.'
                  : 'Give an address to see who had it, or a hardware address, a DUID or a host name to see where that has been.'}
              </Empty>
            ),
          }}
          columns={eventColumns()}
        />
      </div>
    </>
  )
}
