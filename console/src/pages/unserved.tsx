import { useQuery } from '@tanstack/react-query'
import { Button, Select, Table } from 'antd'
import { useState } from 'react'
import { Link, useSearchParams } from 'react-router'
import { get, type Page, type Unserved } from '../api/client'
import { Empty, Failure, Mono, paged, plural } from '../parts/bits'
import { Confirm } from '../parts/preview'
import { SubNav } from '../parts/subnav'
import { nameFor, type Wanted } from '../edits/reservation'
import { Reserve } from '../parts/reserve'
import type { Edit } from '../api/client'
import { unservedColumns } from '../columns/unserved'
import { usePut, Search } from '../parts/filters'

/** Clients that ask and get nothing, or a refusal, with the mend. */
export default function UnservedPage() {
  const [params] = useSearchParams()
  const reason = params.get('reason') ?? ''
  const search = params.get('search') ?? ''
  const all = useQuery({ queryKey: ['unserved', 'page'], queryFn: () => get<Page<Unserved>>('/unserved') })
  const list = useQuery({
    queryKey: ['unserved', search, reason],
    queryFn: () => get<Page<Unserved>>('/unserved', { search, reason }),
    placeholderData: (old) => old,
  })
  const [wanted, setWanted] = useState<Wanted | null>(null)
  const [edits, setEdits] = useState<Edit[] | null>(null)
  const put = usePut()
  const reasons = [...new Map((all.data?.items ?? []).map((u) => [u.reason, u.reason.replaceAll('-', ' ')]))]
  const mend = (u: Unserved) => {
    if (u.reason === 'no-scope')
      return (
        <Link to={'/plan?add=1' + (u.guess ? '&subnet=' + encodeURIComponent(u.guess) : '')}>
          Define a scope{u.guess && ' ' + u.guess}
        </Link>
      )
    if (u.reason === 'held')
      return (
        <Button
          size="small"
          onClick={() => setEdits([{ op: 'edit', kind: 'scope', name: u.scope, scope: { mode: 'serving' } }])}
        >
          Serve {u.scope}
        </Button>
      )
    if (
      u.scope &&
      [
        'pool-empty',
        'reserved-only',
        'draining',
        'reserved-another',
        'held-by-another',
        'no-bootp',
        'too-many-new',
      ].includes(u.reason)
    )
      return (
        <Button
          size="small"
          onClick={() => setWanted({ name: nameFor(u.hostname, u.hardware), hardware: u.hardware, scope: u.scope })}
        >
          Reserve an address
        </Button>
      )
    if (u.reason === 'rule') return <Link to="/plan/~rules">Look at the rules</Link>
    return (
      <span className="quiet" style={{ whiteSpace: 'normal', display: 'inline-block', maxWidth: 210 }}>
        {u.mend}
      </span>
    )
  }
  return (
    <>
      <div className="head">
        <div>
          <h1>Unserved</h1>
          <span className="quiet">
            {plural(list.data?.total ?? 0, 'client')} that asked and got nothing, or a refusal; each leaves this list
            when it is served
          </span>
        </div>
      </div>
      <SubNav of="unserved" />
      <div className="filters">
        <Search
          value={search}
          hint="Hardware address, host name, vendor, relay, scope"
          width={320}
          onSearch={(v) => put('search', v)}
        />
        <Select
          allowClear
          placeholder="Any reason"
          value={reason || undefined}
          onChange={(v) => put('reason', v)}
          style={{ width: 220 }}
          options={reasons.map(([value, label]) => ({ value, label }))}
        />
      </div>
      <Failure error={list.error} />
      {list.data?.missing?.map((name) => (
        <div className="note" key={name}>
          {name} cannot be asked now: clients that it alone refused are not in this list.
        </div>
      ))}
      <div className="panel flush">
        <Table<Unserved>
          size="small"
          rowKey={(u) => u.hardware + u.relay + u.interface + u.reason + (u.servers ?? []).join()}
          dataSource={list.data?.items}
          loading={list.isLoading}
          pagination={paged}
          scroll={{ x: 'max-content' }}
          className="dense"
          locale={{
            emptyText: (
              <Empty>{reason || search ? 'Nobody fits the filter.' : 'Every client that asked was served.'}</Empty>
            ),
          }}
          expandable={{
            expandedRowRender: (u) => (
              <div className="grid two unfolded">
                <div>
                  <h2>How it was decided</h2>
                  <ol className="trail">
                    {u.trail.map((s, i) => (
                      <li key={i}>{s}</li>
                    ))}
                  </ol>
                </div>
                <div>
                  <h2>What to do</h2>
                  <p style={{ margin: 0 }}>
                    {u.mend}.{' '}
                    <Link to={'/unserved/conversations?client=' + encodeURIComponent(u.hardware)}>
                      Its conversation
                    </Link>
                  </p>
                  <dl className="facts" style={{ marginTop: 8 }}>
                    {u.identifier && (
                      <>
                        <dt>Identifier</dt>
                        <dd>
                          <Mono>{u.identifier}</Mono>
                        </dd>
                      </>
                    )}
                    {u.asked && (
                      <>
                        <dt>Asked for</dt>
                        <dd>
                          <Mono>{u.asked}</Mono>
                        </dd>
                      </>
                    )}
                    {u.link && (
                      <>
                        <dt>Link</dt>
                        <dd>{u.link}</dd>
                      </>
                    )}
                  </dl>
                </div>
              </div>
            ),
          }}
          columns={unservedColumns(mend)}
        />
      </div>
      <Reserve wanted={wanted} onClose={() => setWanted(null)} />
      <Confirm title="Serve the scope" wish={edits} onClose={() => setEdits(null)} />
    </>
  )
}
