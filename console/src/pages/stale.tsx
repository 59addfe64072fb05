import { useQuery } from '@tanstack/react-query'
import { App, Button, Modal, Select, Table } from 'antd'
import { useState } from 'react'
import { useSearchParams } from 'react-router'
import { call, get, type Nudged, type StaleLease, type StaleLeases } from '../api/client'
import { useScopes } from '../api/scopes'
import { Empty, Failure, paged, plural } from '../parts/bits'
import { SubNav } from '../parts/subnav'
import { staleColumns } from '../columns/stale'

/** Clients that still hold options from before a change. */
export default function Stale() {
  const { message } = App.useApp()
  const [params, setParams] = useSearchParams()
  const scope = params.get('scope') ?? ''
  const q = useQuery({ queryKey: ['stale', scope], queryFn: () => get<StaleLeases>('/stale', { scope }) })
  const scopes = useScopes()
  const [asking, setAsking] = useState(false)
  const [error, setError] = useState<unknown>()
  const s = q.data
  const nudge = async () => {
    try {
      const done = await call<Nudged>('POST', '/nudge', {}, { stale: true, scope: scope || undefined })
      message.success(done.text + '.')
      setAsking(false)
    } catch (e) {
      setError(e)
    }
  }
  return (
    <>
      <div className="head">
        <div>
          <h1>Old options</h1>
          <span className="quiet">
            {s ? (
              <>
                {s.total.toLocaleString('en')} of {plural(s.active, 'active client')} hold something else than they
                would be given now; {s.canNudge.toLocaleString('en')} of them can be nudged
              </>
            ) : (
              '…'
            )}
          </span>
        </div>
        <Select
          allowClear
          showSearch
          placeholder="Any scope"
          value={scope || undefined}
          onChange={(v) => setParams(v ? { scope: v } : {}, { replace: true })}
          style={{ width: 180 }}
          options={scopes.data?.map((x) => ({ value: x.name, label: x.name }))}
        />
        <Button
          type="primary"
          disabled={!s?.canNudge}
          onClick={() => {
            setError(undefined)
            setAsking(true)
          }}
        >
          Nudge them
        </Button>
      </div>
      <SubNav of="leases" />
      <Failure error={q.error} />
      <div className="panel flush">
        <Table<StaleLease>
          size="small"
          rowKey={(x) => x.lease.address}
          dataSource={s?.items}
          loading={q.isLoading}
          className="dense"
          scroll={{ x: 'max-content' }}
          pagination={paged}
          locale={{ emptyText: <Empty>No client holds old options.</Empty> }}
          columns={staleColumns()}
        />
      </div>
      <Modal
        open={asking}
        title="Nudge clients with old options?"
        okText="Nudge them"
        onOk={nudge}
        onCancel={() => setAsking(false)}
      >
        <Failure error={error} />
        <p>
          {plural(s?.canNudge ?? 0, 'client')} {scope ? `of scope ${scope} ` : ''}will be told to renew now, about
          twenty a second. {plural((s?.total ?? 0) - (s?.canNudge ?? 0), 'client')} cannot be told and will renew by
          themselves.
        </p>
      </Modal>
    </>
  )
}
