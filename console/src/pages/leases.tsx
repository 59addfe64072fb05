import { keepPreviousData, useQuery, useQueryClient } from '@tanstack/react-query'
import { App, Button, DatePicker, Drawer, Dropdown, Modal, Select, Table } from 'antd'
import dayjs from 'dayjs'
import { useState } from 'react'
import { Link, useSearchParams } from 'react-router'
import {
  api,
  call,
  get,
  items,
  type Ended,
  type GivenOptions,
  type Lease,
  type LeaseEvent,
  type Page,
  type Pair,
} from '../api/client'
import { useScopes } from '../api/scopes'
import { Empty, Failure, Folding, Mono, StatusMark, When } from '../parts/bits'
import { nameFor, type Wanted } from '../edits/reservation'
import { Reserve } from '../parts/reserve'
import { SubNav } from '../parts/subnav'
import { kindOf, leaseColumns, holderColumns } from '../columns/leases'
import { useColumns } from '../parts/columns'
import { Search } from '../parts/filters'
import { Acting, ActModal, type Act } from '../parts/acting'
import { opens } from '../parts/opens'

const perPage = 100

/** The lease table, filtered and sorted by the server; the filter is in the URL. */
export default function Leases() {
  const [params, setParams] = useSearchParams()
  const [trail, setTrail] = useState<string[]>([]) // cursors of the pages before
  const after = trail.at(-1) ?? ''
  const query = {
    search: params.get('search') ?? '',
    scope: params.get('scope') ?? '',
    status: params.getAll('status'),
    sort: params.get('sort') ?? 'address',
    desc: params.get('desc') === 'true',
    at: params.get('at') ?? '',
  }
  const page = useQuery({
    queryKey: ['leases', query, after],
    queryFn: () => get<Page<Lease>>('/leases', { ...query, after, limit: perPage }),
    placeholderData: keepPreviousData,
  })
  const scopes = useScopes()
  const { columns, chooser } = useColumns('leases', leaseColumns(query))
  const set = (edit: (p: URLSearchParams) => void) => {
    setTrail([])
    setChosen([])
    setParams(
      (p) => {
        edit(p)
        return p
      },
      { replace: true },
    )
  }
  const put = (key: string, v?: string) => set((p) => (v ? p.set(key, v) : p.delete(key)))
  const [chosen, setChosen] = useState<string[]>([])
  const open = params.get('open')
  const from = trail.length * perPage
  const total = page.data?.total ?? 0
  return (
    <>
      <div className="head">
        <div>
          <h1>Leases</h1>
          <span className="quiet">
            {total.toLocaleString('en')} fit, as they{' '}
            {query.at ? `were on ${dayjs(query.at).format('D MMM YYYY, HH:mm')}` : 'are now'}
          </span>
        </div>
        <a
          href={
            api +
            '/leases?' +
            new URLSearchParams([...params].filter(([k]) => k !== 'open').concat([['limit', '10000']]))
          }
          target="_blank"
          rel="noreferrer"
        >
          As JSON
        </a>
        <a href={api + '/leases/sheet' + (query.scope ? '?scope=' + encodeURIComponent(query.scope) : '')}>
          As a sheet
        </a>
      </div>
      <SubNav of="leases" />
      <div className="filters">
        <Search
          value={query.search}
          hint="Address, hardware address, host name, vendor, circuit"
          width={340}
          onSearch={(v) => put('search', v)}
        />
        <Select
          allowClear
          showSearch
          placeholder="Any scope"
          value={query.scope || undefined}
          onChange={(v) => put('scope', v)}
          style={{ width: 180 }}
          options={scopes.data?.map((s) => ({ value: s.name, label: s.name }))}
        />
        <Select
          allowClear
          mode="multiple"
          placeholder="Any status"
          value={query.status}
          style={{ minWidth: 200 }}
          onChange={(v: string[]) =>
            set((p) => {
              p.delete('status')
              v.forEach((s) => p.append('status', s))
            })
          }
          options={['active', 'registered', 'released', 'expired', 'abandoned'].map((s) => ({
            value: s,
            label: <StatusMark status={s} />,
          }))}
        />
        <DatePicker
          showTime={{ format: 'HH:mm' }}
          placeholder="As they were at"
          value={query.at ? dayjs(query.at) : null}
          maxDate={dayjs()}
          onChange={(at) => put('at', at?.toISOString())}
        />
        {chooser}
      </div>
      <Acting
        chosen={(page.data?.items ?? [])
          .filter((l) => chosen.includes(l.address))
          .map((l) => ({ ...l, active: l.status === 'active', reservation: l.reserved ? '' : undefined }))}
        choose={setChosen}
      />
      <Failure error={page.error} />
      <div className="panel flush">
        <Table<Lease>
          size="small"
          rowKey="address"
          dataSource={page.data?.items}
          loading={page.isLoading}
          pagination={false}
          className="clickable dense"
          scroll={{ x: 'max-content' }}
          rowSelection={
            query.at ? undefined : { selectedRowKeys: chosen, onChange: (keys) => setChosen(keys as string[]) }
          }
          onRow={(l) =>
            opens(() =>
              setParams((p) => {
                p.set('open', l.address)
                return p
              }),
            )
          }
          onChange={(_, __, sorter) => {
            const s = Array.isArray(sorter) ? sorter[0] : sorter
            set((p) => {
              if (s.order) {
                p.set('sort', String(s.columnKey))
                p.set('desc', String(s.order === 'descend'))
              } else {
                p.delete('sort')
                p.delete('desc')
              }
            })
          }}
          locale={{
            emptyText: (
              <Empty>
                {query.search || query.scope || query.status.length
                  ? 'No lease fits the filter.'
                  : 'Nobody has a lease yet. They appear here as clients come.'}
              </Empty>
            ),
          }}
          columns={columns}
          footer={() => (
            <div className="filters" style={{ margin: 0 }}>
              <span className="quiet" style={{ flex: 1 }}>
                {total
                  ? `${(from + 1).toLocaleString('en')} to ${(from + (page.data?.items.length ?? 0)).toLocaleString('en')} of ${total.toLocaleString('en')}`
                  : ''}
              </span>
              <Button size="small" disabled={trail.length === 0} onClick={() => setTrail(trail.slice(0, -1))}>
                Before
              </Button>
              <Button size="small" disabled={!page.data?.next} onClick={() => setTrail([...trail, page.data!.next!])}>
                Next
              </Button>
            </div>
          )}
        />
      </div>
      <LeaseDrawer
        address={open}
        onClose={() =>
          setParams((p) => {
            p.delete('open')
            return p
          })
        }
      />
    </>
  )
}

/** The question what the client of a lease would get now. */
const askOf = (l: Lease) =>
  new URLSearchParams(
    l.duid
      ? { duid: l.duid, iaid: l.iaid ?? '', scope: l.scope, ...(l.address.includes('/') && { delegated: 'yes' }) }
      : { hardware: l.hardware },
  ).toString()

/** By what the client of a lease is known. */
const clientOf = (l: Lease): Pick<Wanted, 'by' | 'hardware'> =>
  l.duid ? { by: 'duid', hardware: l.duid } : { hardware: l.hardware }

function LeaseDrawer({ address, onClose }: { address: string | null; onClose: () => void }) {
  const { message } = App.useApp()
  const queries = useQueryClient()
  const lease = useQuery({
    queryKey: ['lease', address],
    queryFn: () => get<Lease>('/leases/' + encodeURIComponent(address!)),
    enabled: !!address,
    retry: false,
  })
  const history = useQuery({
    queryKey: ['lease', address, 'history'],
    queryFn: () => items<LeaseEvent>('/history', { address: address! }),
    enabled: !!address,
  })
  const pair = useQuery({ queryKey: ['pair'], queryFn: () => get<Pair>('/pair') })
  const given = useQuery({
    queryKey: ['lease', address, 'options'],
    queryFn: () => get<GivenOptions>(`/leases/${encodeURIComponent(address!)}/options`),
    enabled: !!address && lease.isSuccess,
    retry: false,
  })
  const [wanted, setWanted] = useState<Wanted | null>(null)
  const [act, setAct] = useState<Act | null>(null)
  const [clearing, setClearing] = useState(false)
  const [error, setError] = useState<unknown>()
  const l = lease.data
  const finish = async () => {
    try {
      const done = await call<Ended>('POST', `/leases/${encodeURIComponent(address!)}/clear`)
      message.success(done.text + '.')
      queries.invalidateQueries()
      setClearing(false)
    } catch (e) {
      setError(e)
    }
  }
  return (
    <Drawer
      open={!!address}
      onClose={onClose}
      size={620}
      title={
        <>
          Lease of <Mono>{address}</Mono>
        </>
      }
      extra={
        l && (
          <span className="filters" style={{ margin: 0 }}>
            {l.status === 'active' && !l.reserved && l.hardware && (
              <Button
                onClick={() =>
                  setWanted({
                    name: nameFor(l.hostname, l.hardware),
                    ...clientOf(l),
                    scope: l.scope,
                    address: l.address,
                  })
                }
              >
                Reserve
              </Button>
            )}
            <Button onClick={() => setAct('reach')}>Reachable?</Button>
            {l.status === 'active' && (
              <Dropdown
                menu={{
                  items: [
                    {
                      key: 'nudge',
                      label: 'Nudge: renew at once',
                      disabled: !l.canNudge,
                      onClick: () => setAct('nudge'),
                    },
                    { key: 'wake', label: 'Wake', onClick: () => setAct('wake') },
                    !l.reserved && {
                      key: 'move',
                      label: 'Move to another address',
                      onClick: () =>
                        setWanted({
                          name: nameFor(l.hostname, l.hardware),
                          ...clientOf(l),
                          scope: l.scope,
                          elsewhere: true,
                        }),
                    },
                    { key: 'end', danger: true, label: 'End the lease', onClick: () => setAct('end') },
                  ].filter((x) => x !== false),
                }}
              >
                <Button>More</Button>
              </Dropdown>
            )}
            {l.status === 'abandoned' && (
              <Button
                onClick={() => {
                  setError(undefined)
                  setClearing(true)
                }}
              >
                Clear
              </Button>
            )}
          </span>
        )
      }
    >
      <Failure error={lease.error} />
      {l && (
        <dl className="facts">
          <dt>Status</dt>
          <dd>
            <StatusMark status={l.status} /> {kindOf(l)}
          </dd>
          <dt>Scope</dt>
          <dd>{l.scope ? <Link to={'/plan/' + l.scope}>{l.scope}</Link> : 'none: it lies outside every scope'}</dd>
          <dt>Hardware address</dt>
          <dd>
            <Mono>{l.hardware}</Mono>
          </dd>
          {l.duid && (
            <>
              <dt>DUID</dt>
              <dd>
                <Mono>{l.duid}</Mono> {l.duidOf && <span className="quiet">({l.duidOf})</span>}
              </dd>
              {l.iaid && (
                <>
                  <dt>IAID</dt>
                  <dd>{l.iaid}</dd>
                </>
              )}
            </>
          )}
          {l.identifier && (
            <>
              <dt>Identifier</dt>
              <dd>
                <Mono>{l.identifier}</Mono>
              </dd>
            </>
          )}
          {l.hostname && (
            <>
              <dt>Host name</dt>
              <dd>{l.hostname}</dd>
            </>
          )}
          {l.vendor && (
            <>
              <dt>Vendor class</dt>
              <dd>{l.vendor}</dd>
            </>
          )}
          <dt>Since</dt>
          <dd>
            <When at={l.since} />
          </dd>
          <dt>{l.status === 'active' || l.status === 'registered' ? 'Expires' : 'Ended'}</dt>
          <dd>
            <When at={l.expires} />
          </dd>
          <dt>Last heard</dt>
          <dd>
            <When at={l.heard} />
          </dd>
          <dt>Lease time</dt>
          <dd>{l.granted}</dd>
          {l.by && (
            <>
              <dt>Given by</dt>
              <dd>
                {pair.data?.formed ? (l.by === pair.data.own.role ? pair.data.own : pair.data.partner)?.name : l.by}
              </dd>
            </>
          )}
          {l.relay && (
            <>
              <dt>Relay, circuit</dt>
              <dd>
                <Mono>{l.relay}</Mono> {l.circuit && <Mono>{l.circuit}</Mono>}
              </dd>
            </>
          )}
          {l.evidence && (
            <>
              <dt>Evidence</dt>
              <dd>{l.evidence}</dd>
            </>
          )}
          {l.beside && (
            <>
              <dt>Beside it</dt>
              <dd>
                {l.beside.map((b) => (
                  <div key={b.address}>
                    <Link to={`/leases?scope=${encodeURIComponent(b.scope)}&open=${encodeURIComponent(b.address)}`}>
                      <Mono>{b.address}</Mono>
                    </Link>{' '}
                    <span className="quiet">
                      {b.status}
                      {b.scope && `, ${b.scope}`}
                    </span>
                  </div>
                ))}
              </dd>
            </>
          )}
          <dt>Options of</dt>
          <dd>
            {l.learned ? (
              'another server; learned by listening'
            ) : (
              <Link to={'/changes?open=' + l.revision}>revision {l.revision}</Link>
            )}
          </dd>
          {(l.hardware || l.duid) && (
            <>
              <dt>More</dt>
              <dd>
                <Link to={'/leases/history?who=' + encodeURIComponent(l.hardware || l.duid!)}>Where it has been</Link> ·{' '}
                <Link to={'/unserved/explain?' + askOf(l)}>What it would get now</Link> ·{' '}
                <Link to={'/unserved/conversations?client=' + encodeURIComponent(l.hardware || l.duid!)}>
                  Its conversations
                </Link>
              </dd>
            </>
          )}
        </dl>
      )}
      {given.data?.known && (
        <>
          <h2 style={{ marginTop: 20 }}>What it was last given</h2>
          <dl className="facts">
            {given.data.given.map((o) => (
              <span key={o.name} style={{ display: 'contents' }}>
                <dt>
                  {o.code} {o.name}
                </dt>
                <dd>
                  <Folding text={o.value} />
                </dd>
              </span>
            ))}
          </dl>
          {given.data.unmet.length > 0 && (
            <p className="quiet" style={{ margin: '6px 0 0' }}>
              It also asked for {given.data.unmet.join(', ')}.
            </p>
          )}
        </>
      )}
      <h2 style={{ marginTop: 20 }}>Who had this address</h2>
      <Failure error={history.error} />
      <Table<LeaseEvent>
        size="small"
        rowKey={(e) => e.at + e.status + e.hardware}
        dataSource={history.data}
        pagination={false}
        loading={history.isLoading}
        locale={{ emptyText: <Empty>Nobody, since history is kept.</Empty> }}
        columns={holderColumns()}
      />
      <Reserve wanted={wanted} onClose={() => setWanted(null)} />
      <ActModal act={act} addresses={address ? [address] : []} onClose={() => setAct(null)} />
      <Modal
        open={clearing}
        title="Clear this address?"
        okText="Clear it"
        onOk={finish}
        onCancel={() => setClearing(false)}
      >
        <Failure error={error} />
        <p>
          {address} was found in use or declined. Once cleared it can be handed out again; if the squatter is still
          there, it will be declined again.
        </p>
      </Modal>
    </Drawer>
  )
}
