import { useInfiniteQuery } from '@tanstack/react-query'
import { Button, Table } from 'antd'
import { useSearchParams } from 'react-router'
import { get, type Revision } from '../api/client'
import { Empty, Failure, plural, When } from '../parts/bits'

/** A diff in a few words. */
export function summarise(diff: Revision['diff']): string {
  if (diff.length === 0) return ''
  const d = diff.find((x) => x.kind !== 'link') ?? diff[0] // a link mostly comes along with its scope
  const whole = d.text === 'added' || d.text === 'removed'
  let text = `${d.kind} ${d.name}${whole ? ' ' : ': '}${d.text}`
  const others = new Set(diff.filter((x) => x.kind !== d.kind || x.name !== d.name).map((x) => x.kind + x.name))
  if (others.size) text += `, and ${others.size} more`
  else if (diff.length > 1 && !whole) text += `, and ${diff.length - 1} more settings`
  return text
}

const perPage = 50

/** Each revision of the plan, by whom, with its diff. */
export default function Changes() {
  const [params, setParams] = useSearchParams()
  const open = params.getAll('open').map(Number)
  const pages = useInfiniteQuery({
    queryKey: ['revisions'], initialPageParam: 0,
    queryFn: ({ pageParam }) => get<Revision[]>('/plan/revisions', { before: pageParam || undefined, limit: perPage }),
    getNextPageParam: (last) => (last.length === perPage ? last[last.length - 1].number : undefined),
  })
  const list = pages.data?.pages.flat() ?? []
  return (
    <>
      <div className="head"><div><h1>Changes</h1><span className="quiet">{list.length ? `The plan is at revision ${list[0].number}` : 'Each change of the plan is kept here'}</span></div></div>
      <Failure error={pages.error} />
      <div className="panel flush">
        <Table<Revision> size="small" rowKey="number" dataSource={list} loading={pages.isLoading} pagination={false} className="clickable"
          locale={{ emptyText: <Empty>The plan has not been changed yet. What you define shows up here, with who, when and why.</Empty> }}
          expandable={{
            expandRowByClick: true, expandedRowKeys: open,
            onExpandedRowsChange: (keys) => setParams((p) => { p.delete('open'); keys.forEach((k) => p.append('open', String(k))); return p }, { replace: true }),
            expandedRowRender: (r) => (
              <ul className="diff">
                {r.diff.map((d, i) => <li key={i} className={d.after && !d.before ? 'new' : d.before && !d.after ? 'gone' : ''}><span className="quiet">{d.kind} {d.name}</span> {d.text}</li>)}
              </ul>
            ),
          }}
          columns={[
            { title: 'Revision', dataIndex: 'number', width: 90, align: 'right' },
            { title: 'When', width: 110, render: (_, r) => <When at={r.at} /> },
            { title: 'By', dataIndex: 'author', width: 120 },
            { title: 'What', render: (_, r) => summarise(r.diff) },
            { title: 'Why', dataIndex: 'reason' },
            { title: '', align: 'right', width: 110, render: (_, r) => <span className="quiet">{plural(r.diff.length, 'line')}</span> },
          ]} />
      </div>
      {pages.hasNextPage && <Button style={{ marginTop: 10 }} onClick={() => pages.fetchNextPage()}>Earlier</Button>}
    </>
  )
}
