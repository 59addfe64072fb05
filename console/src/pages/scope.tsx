import { useQuery, useQueryClient } from '@tanstack/react-query'
import { App, Button, Dropdown, Form, Input, Select, Table, Tabs } from 'antd'
import { useState } from 'react'
import { Link, useNavigate, useParams, useSearchParams } from 'react-router'
import { call, get, items, type Code, type Explanation, type Reservation, type Scope } from '../api/client'
import { count, Empty, Failure, Folding, Mono, paged, StatusMark, UseBar, When } from '../parts/bits'
import { AddressMap } from '../parts/map'
import { Inside } from '../parts/inside'
import { Confirm } from '../parts/preview'
import { outcome } from '../parts/gathering'
import { type Wanted } from '../edits/reservation'
import { Reserve } from '../parts/reserve'
import { MoveAll } from '../parts/moving'
import { Acting } from '../parts/acting'
import { ScopeForm } from '../parts/scopeform'
import { ownColumns, OwnValue, useOwn } from '../parts/own'
import { reservationColumns, exclusionColumns, givenColumns, setColumns, type Ask } from '../columns/scope'

/** One scope: settings, address map, reservations, exclusions, options. */
export default function ScopePage() {
  const { name = '' } = useParams()
  const [params, setParams] = useSearchParams()
  const go = useNavigate()
  const queries = useQueryClient()
  const { message } = App.useApp()
  const scope = useQuery({
    queryKey: ['scope', name],
    queryFn: () => get<Scope>('/scopes/' + encodeURIComponent(name)),
  })
  const [editing, setEditing] = useState(false)
  const own = useOwn('scope')
  const [ask, setAsk] = useState<Ask>(null)
  const [wanted, setWanted] = useState<Wanted | null>(null)
  const [moving, setMoving] = useState(false)
  const s = scope.data
  if (!s)
    return (
      <>
        <h1>{name}</h1>
        <Failure error={scope.error} />
      </>
    )
  const mode = (to: string, title: string) =>
    setAsk({ title, edits: [{ op: 'edit', kind: 'scope', name: s.name, scope: { mode: to as 'held' } }] })
  const tab = params.get('tab') ?? 'map'
  return (
    <>
      <div className="head">
        <div>
          <h1>
            {s.name}{' '}
            <small>
              <StatusMark status={s.mode} />
            </small>
          </h1>
          <span className="quiet">
            <Link to="/plan">Plan</Link> · <Mono>{s.subnet}</Mono> on link {s.link}
            {s.drainUntil && (
              <>
                {' '}
                · the drain ends <When at={s.drainUntil} />
              </>
            )}
            {s.note && <> · {s.note}</>}
            {Object.entries(s.fields).map(([name, value]) => (
              <span key={name}>
                {' '}
                · {name} <OwnValue of={own.find((f) => f.name === name)} value={value} />
              </span>
            ))}
          </span>
        </div>
        <Link to={'/leases?scope=' + s.name}>Its leases</Link>
        {s.mode !== 'serving' && (
          <Button type="primary" onClick={() => mode('serving', `Serve scope ${s.name}`)}>
            Serve
          </Button>
        )}
        <Button onClick={() => setEditing(true)}>Edit</Button>
        <Dropdown
          menu={{
            items: [
              s.mode !== 'draining' && {
                key: 'drain',
                label: 'Drain: nobody new',
                onClick: () => mode('draining', `Drain scope ${s.name}`),
              },
              { key: 'move', label: 'Move everybody to another scope', onClick: () => setMoving(true) },
              s.mode !== 'held' && {
                key: 'hold',
                label: 'Hold: answer nobody',
                onClick: () => mode('held', `Hold scope ${s.name}`),
              },
              {
                key: 'remove',
                danger: true,
                label: 'Remove',
                onClick: () =>
                  setAsk({
                    title: `Remove scope ${s.name}`,
                    edits: [{ op: 'remove', kind: 'scope', name: s.name }],
                    leave: true,
                  }),
              },
            ].filter((x) => x !== false),
          }}
        >
          <Button>More</Button>
        </Dropdown>
      </div>
      <div className="grid" style={{ gridTemplateColumns: '300px minmax(0, 1fr)', alignItems: 'start' }}>
        <section className="panel">
          <h2>Use</h2>
          <UseBar scope={s} />
          <dl className="facts" style={{ marginTop: 10 }}>
            <dt>Headroom</dt>
            <dd>
              <b>{count(s.usage.headroom)}</b> of {count(s.usage.size)}
            </dd>
            <dt>Active</dt>
            <dd>{s.usage.active.toLocaleString('en')}</dd>
            <dt>Offered</dt>
            <dd>{s.usage.offered}</dd>
            <dt>Abandoned</dt>
            <dd>
              {s.usage.abandoned ? (
                <Link to={`/leases?scope=${s.name}&status=abandoned`}>▲ {s.usage.abandoned}</Link>
              ) : (
                0
              )}
            </dd>
            <dt>Excluded</dt>
            <dd>{s.usage.excluded}</dd>
            <dt>Spare</dt>
            <dd>{count(s.usage.spare)} outside the pools</dd>
            {s.prefixes && (
              <>
                <dt>Prefixes</dt>
                <dd>
                  <b>{s.prefixes.active.toLocaleString('en')}</b> of {count(s.prefixes.size)} delegated,{' '}
                  {count(s.prefixes.headroom)} left
                </dd>
              </>
            )}
          </dl>
          {s.inside && <Inside of={s.inside} scope={s.name} until={s.drainUntil ?? undefined} />}
          <h2 style={{ marginTop: 16 }}>Settings</h2>
          <dl className="facts">
            <dt>Subnet</dt>
            <dd>
              <Mono>{s.subnet}</Mono>
            </dd>
            {s.supernets.length > 0 && (
              <>
                <dt>Lies in</dt>
                <dd>{s.supernets.join(' › ')}</dd>
              </>
            )}
            {s.mask && (
              <>
                <dt>Mask</dt>
                <dd>
                  <Mono>{s.mask}</Mono>
                </dd>
              </>
            )}
            <dt>Pools</dt>
            <dd>
              {s.pools.length
                ? s.pools.map((p) => (
                    <div key={p}>
                      <Folding text={p} />
                    </div>
                  ))
                : 'none: reserved clients only'}
            </dd>
            {s.prefixPools.length > 0 && (
              <>
                <dt>Prefix pools</dt>
                <dd>
                  {s.prefixPools.map((p) => (
                    <div key={p}>
                      <Folding text={p} />
                    </div>
                  ))}
                </dd>
              </>
            )}
            <dt>Lease time</dt>
            <dd>
              {s.lease}
              {!s.leaseSet && <span className="quiet"> ({s.leaseFrom})</span>}
            </dd>
            {s.family === 6 ? (
              <>
                <dt>Valid for</dt>
                <dd>{s.valid}</dd>
                <dt>Clients by</dt>
                <dd>DUID and IAID</dd>
              </>
            ) : (
              <>
                <dt>No record</dt>
                <dd>{s.authoritative ? 'refused' : 'silence'}</dd>
                <dt>Clients by</dt>
                <dd>{s.identity === 'hardware' ? 'hardware address alone' : 'identifier, if sent'}</dd>
                <dt>BOOTP</dt>
                <dd>{s.bootp}</dd>
              </>
            )}
            {s.family === 4 && (
              <>
                <dt>Probing</dt>
                <dd>{s.probe ? 'before addresses are offered' : 'off'}</dd>
              </>
            )}
            {s.rapidCommit && (
              <>
                <dt>Rapid commit</dt>
                <dd>yes</dd>
              </>
            )}
            {s.offerDelay && (
              <>
                <dt>Offers wait</dt>
                <dd>{s.offerDelay}</dd>
              </>
            )}
            {s.perCircuit > 0 && (
              <>
                <dt>A circuit</dt>
                <dd>{s.perCircuit} addresses</dd>
              </>
            )}
            {s.newPerMinute !== 0 && (
              <>
                <dt>Newcomers</dt>
                <dd>{s.newPerMinute < 0 ? 'any number' : s.newPerMinute} a minute</dd>
              </>
            )}
            {s.confined.length > 0 && (
              <>
                <dt>For rules</dt>
                <dd>
                  {s.confined.map((p) => (
                    <div key={p}>
                      <Folding text={p} />
                    </div>
                  ))}
                </dd>
              </>
            )}
          </dl>
        </section>
        <section className="panel">
          <Tabs
            activeKey={tab}
            onChange={(k) => setParams({ tab: k }, { replace: true })}
            items={[
              { key: 'map', label: 'Address map', children: <AddressMap scope={s.name} /> },
              {
                key: 'reservations',
                label: `Reservations ${s.usage.reserved || ''}`,
                children: (
                  <Reservations
                    scope={s}
                    ask={setAsk}
                    reserve={() => setWanted({ name: '', hardware: '', scope: s.name })}
                  />
                ),
              },
              {
                key: 'exclusions',
                label: `Exclusions ${s.exclusions.length || ''}`,
                children: <Exclusions scope={s} ask={setAsk} />,
              },
              { key: 'options', label: 'Options', children: <Options scope={s} ask={setAsk} /> },
            ]}
          />
        </section>
      </div>
      <ScopeForm
        open={editing}
        old={s}
        onClose={() => setEditing(false)}
        onDone={(n) => n !== name && go('/plan/' + n)}
      />
      <Reserve wanted={wanted} onClose={() => setWanted(null)} />
      <MoveAll scope={moving ? s : null} onClose={() => setMoving(false)} />
      <Confirm
        title={ask?.title ?? ''}
        wish={ask?.edits ?? null}
        onClose={() => setAsk(null)}
        onDone={(r) => {
          message.success(outcome(r))
          queries.invalidateQueries()
          if (ask?.leave) go('/plan')
        }}
      />
    </>
  )
}

function Reservations({ scope, ask, reserve }: { scope: Scope; ask: (a: Ask) => void; reserve: () => void }) {
  const list = useQuery({
    queryKey: ['reservations', scope.name],
    queryFn: () => items<Reservation>('/reservations', { scope: scope.name }),
  })
  const own = useOwn('reservation')
  const [chosen, setChosen] = useState<string[]>([])
  return (
    <>
      <div className="filters">
        <Button onClick={reserve}>Reserve an address</Button>
      </div>
      <Acting
        chosen={(list.data ?? [])
          .filter((r) => chosen.includes(r.address))
          .map((r) => ({ ...r, active: r.status === 'active', reservation: r.name }))}
        choose={setChosen}
      />
      <Failure error={list.error} />
      <Table<Reservation>
        size="small"
        rowKey="address"
        dataSource={list.data}
        pagination={paged}
        rowSelection={{ selectedRowKeys: chosen, onChange: (keys) => setChosen(keys as string[]) }}
        locale={{
          emptyText: (
            <Empty>Nothing is reserved here. Reserve an address for a client that must always have the same one.</Empty>
          ),
        }}
        columns={[...reservationColumns(ask), ...ownColumns(own, list.data ?? [])]}
      />
    </>
  )
}

function Exclusions({ scope, ask }: { scope: Scope; ask: (a: Ask) => void }) {
  return (
    <>
      <Form
        layout="inline"
        style={{ marginBottom: 10 }}
        onFinish={(v: { range: string; user?: string }) =>
          ask({
            title: `Exclude ${v.range}`,
            edits: [
              {
                op: 'edit',
                kind: 'scope',
                name: scope.name,
                scope: { addExclusions: [{ range: v.range, user: v.user }] },
              },
            ],
          })
        }
      >
        <Form.Item name="range" rules={[{ required: true, message: 'An address or a range.' }]}>
          <Input className="mono" placeholder="10.40.8.120-10.40.8.129" style={{ width: 240 }} />
        </Form.Item>
        <Form.Item name="user">
          <Input placeholder="who uses it" />
        </Form.Item>
        <Button htmlType="submit">Exclude</Button>
      </Form>
      <Table
        size="small"
        rowKey="range"
        dataSource={scope.exclusions}
        pagination={false}
        locale={{
          emptyText: <Empty>Nothing is excluded. Exclude what devices with fixed addresses use inside a pool.</Empty>,
        }}
        columns={exclusionColumns(scope, ask)}
      />
    </>
  )
}

function Options({ scope, ask }: { scope: Scope; ask: (a: Ask) => void }) {
  const explained = useQuery({
    queryKey: ['explain', scope.name],
    queryFn: () => call<Explanation>('POST', '/explain', {}, { scope: scope.name }),
  })
  const codes = useQuery({ queryKey: ['codes'], queryFn: () => items<Code>('/codes'), staleTime: Infinity })
  const [code, setCode] = useState<Code>()
  const set = (option: string, value: string, title: string) =>
    ask({ title, edits: [{ op: 'edit', kind: 'scope', name: scope.name, scope: { options: { [option]: value } } }] })
  return (
    <>
      <Form
        layout="inline"
        style={{ marginBottom: 10 }}
        onFinish={(v: { option: string; value: string }) => set(v.option, v.value, `Set option ${v.option}`)}
      >
        <Form.Item name="option" rules={[{ required: true, message: 'Which option?' }]}>
          <Select
            showSearch={{ filterOption: (text, o) => (o?.search ?? '').includes(text.toLowerCase()) }}
            placeholder="Option, by code or name"
            style={{ width: 250 }}
            onChange={(v) => setCode(codes.data?.find((c) => c.name === v))}
            options={codes.data
              ?.filter((c) => !c.managed)
              .map((c) => ({
                value: c.name,
                label: `${c.code} ${c.name}`,
                search: `${c.code} ${c.name} ${c.other ?? ''} ${c.meaning}`.toLowerCase(),
              }))}
          />
        </Form.Item>
        <Form.Item name="value" rules={[{ required: true, message: 'The value, or none.' }]}>
          <Input className="mono" style={{ width: 260 }} placeholder={code ? code.example : 'value, or none'} />
        </Form.Item>
        <Button htmlType="submit">Set</Button>
      </Form>
      {code && (
        <p className="quiet" style={{ marginTop: 0 }}>
          {code.title}: {code.meaning}. Type: {code.type}.
        </p>
      )}
      <Failure error={explained.error} />
      {explained.data?.options.length === 0 && <Effective scope={scope} ask={ask} />}
      <Table
        size="small"
        rowKey={(o) => (o.book ?? '') + o.code}
        dataSource={explained.data?.options}
        pagination={false}
        columns={givenColumns(set)}
      />
    </>
  )
}

/** The options set on a scope that has nobody to give them to now. */
function Effective({ scope, ask }: { scope: Scope; ask: (a: Ask) => void }) {
  return (
    <Table
      size="small"
      rowKey="name"
      dataSource={scope.options}
      pagination={false}
      locale={{ emptyText: <Empty>No option is set on the scope itself.</Empty> }}
      columns={setColumns(scope, ask)}
    />
  )
}
