import { useQuery } from '@tanstack/react-query'
import { Segmented, Table } from 'antd'
import { useSearchParams } from 'react-router'
import { items, type Capacity } from '../api/client'
import { Empty, Failure, paged, plural } from '../parts/bits'
import { urgency } from '../parts/forecast'
import { SubNav } from '../parts/subnav'
import { capacityColumns } from '../columns/capacity'
import { usePut, Search } from '../parts/filters'

/** How full everything is, and when it runs out. */
export default function CapacityPage() {
  const [params] = useSearchParams()
  const kind = params.get('kind') ?? 'scope'
  const search = params.get('search') ?? ''
  const list = useQuery({
    queryKey: ['capacity', kind, search],
    queryFn: () => items<Capacity>('/capacity', { kind: kind === 'everything' ? undefined : kind, search }),
    refetchInterval: 30000,
    placeholderData: (old) => old,
  })
  const put = usePut()
  const rows = list.data ?? []
  const soon = rows.filter((c) => urgency(c) <= 1)
  const paired = rows.some((c) => c.partner > 0)

  return (
    <>
      <div className="head">
        <div>
          <h1>Capacity</h1>
          <span className="quiet">
            {soon.length === 0
              ? 'Nothing is expected to run out'
              : `${plural(soon.length, 'pool')} ${soon.length === 1 ? 'runs' : 'run'} out: ${soon
                  .slice(0, 4)
                  .map((c) => c.name)
                  .join(', ')}`}
          </span>
        </div>
      </div>
      <SubNav of="capacity" />
      <div className="filters">
        <Segmented
          value={kind}
          onChange={(v) => put('kind', v)}
          options={[
            { value: 'scope', label: 'Scopes' },
            { value: 'pool', label: 'Pools' },
            { value: 'link', label: 'Links' },
            { value: 'supernet', label: 'Supernets' },
            { value: 'everything', label: 'Everything' },
          ]}
        />
        <Search value={search} hint="Scope, pool" width={220} onSearch={(v) => put('search', v)} />
      </div>
      <Failure error={list.error} />
      <div className="panel flush">
        <Table<Capacity>
          size="small"
          className="dense"
          rowKey={(c) => c.kind + c.name + (c.pool ?? '')}
          dataSource={rows}
          loading={list.isLoading}
          pagination={paged}
          scroll={{ x: 'max-content' }}
          locale={{ emptyText: <Empty>There is nothing of that kind; scopes with one pool show as scopes.</Empty> }}
          columns={capacityColumns(paired)}
        />
      </div>
    </>
  )
}
