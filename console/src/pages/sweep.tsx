import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { App, Button, Segmented, Table } from 'antd'
import { useState } from 'react'
import { useSearchParams } from 'react-router'
import { call, type Swept } from '../api/client'
import { Empty, Failure, paged, plural } from '../parts/bits'
import { SubNav } from '../parts/subnav'
import { sweptColumns } from '../columns/sweep'
import { Search } from '../parts/filters'

const words: Record<string, string> = {
  abandoned: 'Addresses that somebody answered for, or that a client declined; each is probed before it is cleared',
  unclaimed: 'Reservations whose client was never seen, or not for 30 days',
  stale: 'Records of clients that left more than 30 days ago; they only say who would get the address back',
}

/** What could be cleared, listed first and cleared on request. */
export default function Sweep() {
  const [params, setParams] = useSearchParams()
  const kind = params.get('kind') ?? 'abandoned'
  const search = params.get('search') ?? ''
  const [chosen, setChosen] = useState<string[]>([])
  const queries = useQueryClient()
  const { message } = App.useApp()
  const list = useQuery({
    queryKey: ['sweep', kind, search],
    queryFn: () => call<Swept>('POST', '/sweep', {}, { kind, search }),
    placeholderData: (old) => old,
  })
  const clear = useMutation({
    mutationFn: () => call<Swept>('POST', '/sweep', {}, { kind, addresses: chosen, confirm: true }),
    onSuccess: (s) => {
      message.info([s.text, ...s.kept].join('. '))
      setChosen([])
      queries.invalidateQueries()
    },
    onError: (e) => message.error(e.message),
  })
  return (
    <>
      <div className="head">
        <div>
          <h1>Sweep</h1>
          <span className="quiet">{words[kind]}</span>
        </div>
        <Button type="primary" disabled={chosen.length === 0} loading={clear.isPending} onClick={() => clear.mutate()}>
          Clear {plural(chosen.length, 'item')}
        </Button>
      </div>
      <SubNav of="audit" />
      <div className="filters">
        <Segmented
          value={kind}
          onChange={(v) => {
            setChosen([])
            setParams({ kind: v }, { replace: true })
          }}
          options={[
            { value: 'abandoned', label: 'Abandoned addresses' },
            { value: 'unclaimed', label: 'Unclaimed reservations' },
            { value: 'stale', label: 'Stale records' },
          ]}
        />
        <Search
          value={search}
          hint="Name, client, address"
          width={220}
          onSearch={(v) => setParams(v ? { kind, search: v } : { kind }, { replace: true })}
        />
        {list.data && <span className="quiet">{list.data.text}</span>}
      </div>
      <Failure error={list.error} />
      <div className="panel flush">
        <Table
          size="small"
          rowKey="address"
          dataSource={list.data?.items}
          loading={list.isLoading}
          pagination={paged}
          rowSelection={{ selectedRowKeys: chosen, onChange: (k) => setChosen(k as string[]) }}
          locale={{ emptyText: <Empty>There is nothing of that kind.</Empty> }}
          columns={sweptColumns(kind)}
        />
      </div>
    </>
  )
}
