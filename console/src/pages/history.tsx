import { useQuery } from '@tanstack/react-query'
import { DatePicker, Input, Table } from 'antd'
import { useSearchParams } from 'react-router'
import { items, type LeaseEvent } from '../api/client'
import { Empty, Failure, Mono, paged, StatusMark, When } from '../parts/bits'
import { SubNav } from '../parts/subnav'

/** Who had an address, and where a client has been. */
export default function History() {
  const [params, setParams] = useSearchParams()
  const who = params.get('who') ?? ''
  const at = params.get('at') ?? ''
  const isAddress = /^\d+\.\d+\.\d+\.\d+$/.test(who.trim())
  const q = useQuery({
    queryKey: ['history', who, at],
    enabled: who !== '',
    retry: false,
    queryFn: () =>
      items<LeaseEvent>(
        '/history',
        isAddress ? { address: who.trim(), at: at || undefined, limit: 500 } : { hardware: who.trim(), limit: 500 },
      ),
  })
  const put = (key: string, v?: string) =>
    setParams(
      (p) => {
        if (v) p.set(key, v)
        else p.delete(key)
        return p
      },
      { replace: true },
    )
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
        <Input.Search
          key={who}
          allowClear
          autoFocus
          placeholder="Address, or hardware address"
          defaultValue={who}
          onSearch={(v) => put('who', v)}
          style={{ width: 280 }}
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
                  : 'Give an address to see who had it, or a hardware address to see where it has been.'}
              </Empty>
            ),
          }}
          columns={[
            { title: 'At', render: (_, e) => <Mono>{new Date(e.at).toLocaleString('en-GB')}</Mono> },
            { title: 'Address', render: (_, e) => <Mono>{e.address}</Mono> },
            { title: 'Became', render: (_, e) => <StatusMark status={e.status} /> },
            {
              title: 'Client',
              render: (_, e) => (
                <>
                  {e.hostname || 'no name'}{' '}
                  <span className="quiet">
                    <Mono>{e.hardware}</Mono>
                  </span>
                </>
              ),
            },
            { title: 'Since', render: (_, e) => <When at={e.since} /> },
            { title: 'Until', render: (_, e) => <When at={e.expires} /> },
            { title: 'Way', render: (_, e) => <Mono>{[e.relay, e.circuit].filter(Boolean).join(' ')}</Mono> },
          ]}
        />
      </div>
    </>
  )
}
