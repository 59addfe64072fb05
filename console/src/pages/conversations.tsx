import { useQuery } from '@tanstack/react-query'
import { Select, Switch, Table } from 'antd'
import { useSearchParams } from 'react-router'
import { api, get, type Exchange, type Page } from '../api/client'
import { useScopes } from '../api/scopes'
import { Empty, Failure, Mono, paged } from '../parts/bits'
import { Message } from '../parts/message'
import { SubNav } from '../parts/subnav'
import { exchangeColumns } from '../columns/conversations'
import { usePut, Search } from '../parts/filters'

const outcomes = [
  'offered',
  'acknowledged',
  'refused',
  'ignored',
  'informed',
  'released',
  'declined',
  'withheld',
  'undone',
]

/** Recent messages, each with what was decided and why; they go on as they come. */
export default function Conversations() {
  const [params] = useSearchParams()
  const put = usePut()
  const filter = Object.fromEntries(
    ['client', 'address', 'scope', 'relay', 'outcome'].map((k) => [k, params.get(k) ?? '']),
  )
  const live = params.get('live') !== 'no'
  const list = useQuery({
    queryKey: ['exchanges', filter],
    queryFn: () => get<Page<Exchange>>('/exchanges', { ...filter, limit: 200 }),
    refetchInterval: live ? 1000 : false,
    placeholderData: (old) => old,
  })
  const scopes = useScopes()
  const rows = [...(list.data?.items ?? [])].reverse()
  const box = (key: string, hint: string, width: number) => (
    <Search value={filter[key]} hint={hint} width={width} onSearch={(v) => put(key, v)} />
  )
  return (
    <>
      <div className="head">
        <div>
          <h1>Conversations</h1>
          <span className="quiet">The last messages, newest first, with what was decided and why</span>
        </div>
        <a
          href={
            api +
            '/exchanges/pcap?' +
            new URLSearchParams({ ...Object.fromEntries(Object.entries(filter).filter(([, v]) => v)), limit: '5000' })
          }
        >
          As a capture file
        </a>
        <span>
          <Switch size="small" checked={live} onChange={(on) => put('live', on ? undefined : 'no')} /> live
        </span>
      </div>
      <SubNav of="unserved" />
      <div className="filters">
        {box('client', 'Hardware address, identifier, host name', 270)}
        {box('address', 'Address', 150)}
        <Select
          allowClear
          showSearch
          placeholder="Any scope"
          value={filter.scope || undefined}
          onChange={(v) => put('scope', v)}
          style={{ width: 150 }}
          options={scopes.data?.map((s) => ({ value: s.name, label: s.name }))}
        />
        {box('relay', 'Relay', 150)}
        <Select
          allowClear
          placeholder="Any outcome"
          value={filter.outcome || undefined}
          onChange={(v) => put('outcome', v)}
          style={{ width: 150 }}
          options={outcomes.map((o) => ({ value: o, label: o }))}
        />
      </div>
      <Failure error={list.error} />
      <div className="panel flush">
        <Table<Exchange>
          size="small"
          rowKey="seq"
          dataSource={rows}
          loading={list.isLoading}
          className="dense clickable"
          scroll={{ x: 'max-content' }}
          pagination={paged}
          locale={{
            emptyText: (
              <Empty>
                {Object.values(filter).some(Boolean)
                  ? 'No remembered message fits the filter.'
                  : 'No message has come yet.'}
              </Empty>
            ),
          }}
          expandable={{
            expandRowByClick: true,
            expandedRowRender: (x) => (
              <div className="unfolded">
                <h2>How it was decided</h2>
                <ol className="trail">
                  {x.trail.map((s, i) => (
                    <li key={i}>{s}</li>
                  ))}
                </ol>
                <div className="grid two" style={{ marginTop: 10 }}>
                  <Message title="Asked" of={x.request} />
                  <Message title="Reply" of={x.reply} />
                </div>
                <p className="quiet" style={{ margin: '8px 0 0' }}>
                  From <Mono>{x.from}</Mono> to <Mono>{x.to}</Mono>
                  {x.replyTo && (
                    <>
                      , reply to <Mono>{x.replyTo}</Mono>
                    </>
                  )}
                </p>
              </div>
            ),
          }}
          columns={exchangeColumns()}
        />
      </div>
    </>
  )
}
