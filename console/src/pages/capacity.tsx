import { useQuery } from '@tanstack/react-query'
import { Input, Segmented, Table } from 'antd'
import { Link, useSearchParams } from 'react-router'
import { items, type Capacity } from '../api/client'
import { Empty, Failure, Mono, paged, plural } from '../parts/bits'
import { Trend } from '../parts/trend'
import { RunsOut, urgency } from '../parts/forecast'
import { SubNav } from '../parts/subnav'

const moment = (c: Capacity) => {
  const u = urgency(c)
  if (u === 0) return 0
  const f = c.forecast
  if (f?.date) return Date.parse(f.date)
  if (f?.early) return Date.parse(f.early) + 1e12
  return c.size === 0 ? 9e15 : 8e15 - c.share
}

/** How full everything is, and when it runs out. */
export default function CapacityPage() {
  const [params, setParams] = useSearchParams()
  const kind = params.get('kind') ?? 'scope'
  const search = params.get('search') ?? ''
  const list = useQuery({
    queryKey: ['capacity', kind, search],
    queryFn: () => items<Capacity>('/capacity', { kind: kind === 'everything' ? undefined : kind, search }),
    refetchInterval: 30000,
    placeholderData: (old) => old,
  })
  const put = (key: string, v: string) =>
    setParams(
      (p) => {
        if (v) p.set(key, v)
        else p.delete(key)
        return p
      },
      { replace: true },
    )
  const rows = list.data ?? []
  const soon = rows.filter((c) => urgency(c) <= 1)
  const paired = rows.some((c) => c.partner > 0)
  const where = (c: Capacity) =>
    c.kind === 'link' || c.kind === 'all'
      ? '/capacity/~all'
      : `/capacity/${c.name}${c.pool ? '?pool=' + encodeURIComponent(c.pool) : ''}`
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
            { value: 'everything', label: 'Everything' },
          ]}
        />
        <Input.Search
          key={search}
          allowClear
          placeholder="Scope, pool"
          defaultValue={search}
          onSearch={(v) => put('search', v)}
          style={{ width: 220 }}
        />
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
          columns={[
            {
              title: 'What',
              sorter: (a, b) => a.name.localeCompare(b.name),
              render: (_, c) => (
                <>
                  <Link to={where(c)}>{c.kind === 'all' ? 'All together' : c.name}</Link>
                  {c.kind === 'link' && <span className="quiet"> link</span>}
                  {c.pool && (
                    <>
                      {' '}
                      <Mono>{c.pool}</Mono>
                    </>
                  )}
                  {c.mode && c.mode !== 'serving' && <span className="quiet"> {c.mode}</span>}
                </>
              ),
            },
            {
              title: 'Last 28 days',
              render: (_, c) => <Trend list={c.trend} size={c.size} label={`Daily peaks of ${c.name}`} />,
            },
            {
              title: 'Runs out',
              defaultSortOrder: 'ascend',
              sorter: (a, b) => moment(a) - moment(b),
              render: (_, c) => <RunsOut of={c} />,
            },
            {
              title: 'Used',
              align: 'right',
              sorter: (a, b) => a.share - b.share,
              render: (_, c) =>
                c.size === 0 ? (
                  ''
                ) : (
                  <>
                    {c.used.toLocaleString('en')} <span className="quiet">of {c.size.toLocaleString('en')}</span>
                  </>
                ),
            },
            {
              title: '',
              align: 'right',
              render: (_, c) => (c.size === 0 ? '' : `${Math.round(c.share * 100)} %`),
            },
            {
              title: paired ? 'Left here' : 'Left',
              align: 'right',
              sorter: (a, b) => a.headroom - b.headroom,
              render: (_, c) => c.headroom.toLocaleString('en'),
            },
            ...(paired
              ? [
                  {
                    title: 'At the partner',
                    align: 'right' as const,
                    sorter: (a: Capacity, b: Capacity) => a.partner - b.partner,
                    render: (_: unknown, c: Capacity) => c.partner.toLocaleString('en'),
                  },
                ]
              : []),
            {
              title: 'Reserved',
              align: 'right',
              render: (_, c) => (c.reserved ? `${c.claimed} of ${c.reserved} claimed` : ''),
            },
            {
              title: 'A day',
              align: 'right',
              sorter: (a, b) => (a.forecast?.perDay ?? 0) - (b.forecast?.perDay ?? 0),
              render: (_, c) =>
                c.forecast && Math.abs(c.forecast.perDay) >= 0.05
                  ? (c.forecast.perDay > 0 ? '+' : '') + c.forecast.perDay.toFixed(1)
                  : '',
            },
          ]}
        />
      </div>
    </>
  )
}
