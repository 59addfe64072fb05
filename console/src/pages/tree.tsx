import { useQuery } from '@tanstack/react-query'
import { Button, Table } from 'antd'
import { useMemo, useState } from 'react'
import { useSearchParams } from 'react-router'
import { items, type Scope, type Supernet } from '../api/client'
import { treeColumns } from '../columns/tree'
import { treeOf, type Row } from '../edits/tree'
import { Empty, Failure, plural } from '../parts/bits'
import { Search, usePut } from '../parts/filters'
import { SubNav } from '../parts/subnav'
import { SupernetForm } from '../parts/supernetform'

const all = 10000 // scopes are listed at once, at most

/** The plan as a tree: supernets, and what lies in them. */
export default function Tree() {
  const [params] = useSearchParams()
  const set = usePut()
  const search = params.get('search') ?? ''
  const supernets = useQuery({ queryKey: ['supernets'], queryFn: () => items<Supernet>('/supernets') })
  const scopes = useQuery({
    queryKey: ['scopes', 'all'],
    queryFn: () => items<Scope>('/scopes', { sort: 'subnet', limit: all }),
  })
  const rows = useMemo(
    () => treeOf(supernets.data ?? [], scopes.data ?? [], search),
    [supernets.data, scopes.data, search],
  )
  const many = (scopes.data?.length ?? 0) > 300 // rows are drawn as they come into view
  const shut = many && search === '' // unless somebody opens them
  const [toggled, setToggled] = useState<Set<string>>(() => new Set())
  const editing = params.get('edit')
  const old = supernets.data?.find((n) => n.name === editing)
  return (
    <>
      <div className="head">
        <div>
          <h1>Plan</h1>
          <span className="quiet">
            {plural(supernets.data?.length ?? 0, 'supernet')} around {plural(scopes.data?.length ?? 0, 'scope')}; what
            is set on a supernet holds for all that lies in it
          </span>
        </div>
        <Search value={search} hint="Name, prefix, link or note" width={250} onSearch={(v) => set('search', v)} />
        <Button type="primary" onClick={() => set('add', '1')}>
          Add a supernet
        </Button>
      </div>
      <SubNav of="plan" />
      <Failure error={supernets.error ?? scopes.error} />
      <div className="panel flush">
        <Table<Row>
          size="small"
          rowKey="key"
          className="dense tree"
          dataSource={rows}
          columns={treeColumns((name) => set('edit', name))}
          loading={supernets.isLoading || scopes.isLoading}
          pagination={false}
          virtual={many}
          scroll={many ? { x: 1030, y: 560 } : { x: 'max-content' }}
          expandable={{
            indentSize: 20,
            expandedRowKeys: (supernets.data ?? [])
              .map((n) => 'supernet ' + n.name)
              .filter((k) => toggled.has(k) === shut),
            onExpand: (open, r) =>
              setToggled((was) => {
                const now = new Set(was)
                if (open === shut) now.add(r.key)
                else now.delete(r.key)
                return now
              }),
          }}
          locale={{
            emptyText: (
              <Empty>
                {search ? `Nothing fits “${search}”.` : 'No scope is defined yet, and no supernet around any.'}
              </Empty>
            ),
          }}
        />
      </div>
      <SupernetForm
        open={params.has('add') || old !== undefined}
        old={old}
        onClose={() => set(old ? 'edit' : 'add', '')}
      />
    </>
  )
}
