import { useInfiniteQuery } from '@tanstack/react-query'
import { Button, Table } from 'antd'
import { useSearchParams } from 'react-router'
import { get, type Deed, type Page } from '../api/client'
import { Empty, Failure } from '../parts/bits'
import { Search, usePut } from '../parts/filters'
import { SubNav } from '../parts/subnav'
import { deedColumns } from '../columns/trail'

const perPage = 50

/** All that people did, whatever it was, on both servers of a pair. */
export default function Trail() {
  const [params] = useSearchParams()
  const search = params.get('q') ?? ''
  const put = usePut()
  const pages = useInfiniteQuery({
    queryKey: ['trail', search],
    initialPageParam: '',
    queryFn: ({ pageParam }) =>
      get<Page<Deed>>('/trail', { search: search || undefined, before: pageParam || undefined, limit: perPage }),
    getNextPageParam: (last) => last.next,
  })
  const list = pages.data?.pages.flatMap((p) => p.items) ?? []
  const missing = pages.data?.pages[0].missing ?? []
  return (
    <>
      <div className="head">
        <div>
          <h1>Trail</h1>
          <span className="quiet">What people did: who, when, from where and why</span>
        </div>
      </div>
      <SubNav of="changes" />
      <div className="filters">
        <Search value={search} hint="Who, what, an address, a reason" width={280} onSearch={(v) => put('q', v)} />
        {missing.length > 0 && (
          <span className="quiet">What was done at {missing.join(', ')} is missing: it cannot be asked now.</span>
        )}
      </div>
      <Failure error={pages.error} />
      <div className="panel flush">
        <Table<Deed>
          size="small"
          rowKey={(d) => d.at + d.deed + (d.subject ?? '')}
          dataSource={list}
          loading={pages.isLoading}
          pagination={false}
          locale={{
            emptyText: <Empty>{search ? 'Nobody did anything that fits.' : 'Nobody did anything yet.'}</Empty>,
          }}
          columns={deedColumns(list.some((d) => d.server))}
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
