import { useInfiniteQuery, useQuery } from '@tanstack/react-query'
import { Button, Table } from 'antd'
import { useState } from 'react'
import { useSearchParams } from 'react-router'
import { api, get, items, type Revision } from '../api/client'
import { Empty, Failure, plural } from '../parts/bits'
import { Confirm } from '../parts/preview'
import { SubNav } from '../parts/subnav'
import { revisionColumns } from '../columns/changes'

const perPage = 50

/** What a revision changed, line by line; a long one whole when it is asked for. */
function Diff({ of: r }: { of: Revision }) {
  const [wish, setWish] = useState<'undo' | 'restore' | null>(null)
  const [whole, setWhole] = useState(false)
  const full = useQuery({
    queryKey: ['revision', r.number],
    queryFn: () => get<Revision>('/plan/revisions/' + r.number),
    enabled: whole,
  })
  const diff = full.data?.diff ?? r.diff
  return (
    <>
      <ul className="diff">
        {diff.map((d, i) => (
          <li key={i} className={d.after && !d.before ? 'new' : d.before && !d.after ? 'gone' : ''}>
            <span className="quiet">
              {d.kind} {d.name}
            </span>{' '}
            {d.text}
          </li>
        ))}
      </ul>
      <Failure error={full.error} />
      {diff.length < r.lines && (
        <Button size="small" style={{ marginTop: 6 }} loading={full.isFetching} onClick={() => setWhole(true)}>
          Show all {plural(r.lines, 'line')}
        </Button>
      )}
      <Button size="small" style={{ marginTop: 6, marginRight: 6 }} onClick={() => setWish('undo')}>
        Undo
      </Button>
      <Button size="small" style={{ marginTop: 6 }} onClick={() => setWish('restore')}>
        Bring back the plan as it was then
      </Button>{' '}
      <Button size="small" type="link" href={`${api}/plan/file?revision=${r.number}`}>
        Its plan file
      </Button>
      <Confirm
        title={wish === 'undo' ? `Undo revision ${r.number}` : `Bring back the plan of revision ${r.number}`}
        wish={wish === null ? null : wish === 'undo' ? { undo: r.number } : { restore: r.number }}
        onClose={() => setWish(null)}
      />
    </>
  )
}

/** Each revision of the plan, by whom, with its diff. */
export default function Changes() {
  const [params, setParams] = useSearchParams()
  const open = params.getAll('open').map(Number)
  const pages = useInfiniteQuery({
    queryKey: ['revisions'],
    initialPageParam: 0,
    queryFn: ({ pageParam }) => items<Revision>('/plan/revisions', { after: pageParam || undefined, limit: perPage }),
    getNextPageParam: (last) => (last.length === perPage ? last[last.length - 1].number : undefined),
  })
  const list = pages.data?.pages.flat() ?? []
  return (
    <>
      <div className="head">
        <div>
          <h1>Changes</h1>
          <span className="quiet">
            {list.length ? `The plan is at revision ${list[0].number}` : 'Each change of the plan is kept here'}
          </span>
        </div>
      </div>
      <SubNav of="changes" />
      <Failure error={pages.error} />
      <div className="panel flush">
        <Table<Revision>
          size="small"
          rowKey="number"
          dataSource={list}
          loading={pages.isLoading}
          pagination={false}
          className="clickable"
          locale={{
            emptyText: (
              <Empty>The plan has not been changed yet. What you define shows up here, with who, when and why.</Empty>
            ),
          }}
          expandable={{
            expandRowByClick: true,
            expandedRowKeys: open,
            onExpandedRowsChange: (keys) =>
              setParams(
                (p) => {
                  p.delete('open')
                  keys.forEach((k) => p.append('open', String(k)))
                  return p
                },
                { replace: true },
              ),
            expandedRowRender: (r) => <Diff of={r} />,
          }}
          columns={revisionColumns()}
        />
      </div>
      {pages.hasNextPage && (
        <Button style={{ marginTop: 10 }} onClick={() => pages.fetchNextPage()}>
          Earlier
        </Button>
      )}
    </>
  )
}
