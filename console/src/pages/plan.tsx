import { useQuery } from '@tanstack/react-query'
import { Button, Form, Input, InputNumber, Select, Switch, Table } from 'antd'
import { useNavigate, useSearchParams } from 'react-router'
import { get, type Defaults, type Scope } from '../api/client'
import { scopesMost, useScopes } from '../api/scopes'
import { editOf, fieldsOf, type Fields } from '../edits/defaults'
import { Empty, Failure, Mono, paged, plural } from '../parts/bits'
import { ScopeForm } from '../parts/scopeform'
import { ItemForm } from '../parts/itemform'
import { useColumns } from '../parts/columns'
import { ownColumns, useOwn } from '../parts/own'
import { SubNav } from '../parts/subnav'
import { scopeColumns } from '../columns/plan'
import { usePut, Search } from '../parts/filters'

/** All scopes with their use. */
export default function Plan() {
  const [params, setParams] = useSearchParams()
  const go = useNavigate()
  const search = params.get('search') ?? ''
  const scopes = useScopes(search)
  const defaults = useQuery({ queryKey: ['defaults'], queryFn: () => get<Defaults>('/defaults') })
  const own = useOwn('scope')
  const { columns, chooser } = useColumns(
    'scopes',
    [...scopeColumns(), ...ownColumns(own, scopes.data ?? [])],
    ['Link', 'Pools', 'Abandoned'],
  )
  const set = usePut()
  return (
    <>
      <div className="head">
        <div>
          <h1>Plan</h1>
          <span className="quiet">
            {defaults.data && (
              <>
                Everywhere: lease time {defaults.data.lease}
                {defaults.data.options.map((o) => (
                  <span key={o.code}>
                    {' '}
                    · {o.name} <Mono>{o.value}</Mono>
                  </span>
                ))}
              </>
            )}
          </span>
        </div>
        <Search value={search} hint="Name, subnet, link or note" width={250} onSearch={(v) => set('search', v)} />
        {chooser}
        <Button onClick={() => set('defaults', '1')}>Defaults</Button>
        <Button type="primary" onClick={() => set('add', '1')}>
          Add a scope
        </Button>
      </div>
      <SubNav of="plan" />
      <Failure error={scopes.error} />
      <div className="panel flush">
        <Table<Scope>
          size="small"
          rowKey="name"
          dataSource={scopes.data}
          loading={scopes.isLoading}
          className="clickable dense"
          scroll={{ x: 'max-content' }}
          pagination={{ ...paged, pageSize: 100 }}
          onRow={(s) => ({ onClick: () => go('/plan/' + s.name) })}
          locale={{
            emptyText: (
              <Empty>
                {search
                  ? `No scope fits “${search}”.`
                  : 'No scope is defined yet. Add one: a name, a subnet and a range are enough to begin.'}
              </Empty>
            ),
          }}
          columns={columns}
          footer={() => (
            <span className="quiet">
              {scopes.data?.length === scopesMost && 'the first '}
              {plural(scopes.data?.length ?? 0, 'scope')},{' '}
              {plural(
                (scopes.data ?? []).reduce((n, s) => n + s.usage.active, 0),
                'active lease',
              )}
              , headroom for{' '}
              {(scopes.data ?? [])
                .filter((s) => s.mode === 'serving' && s.family === 4)
                .reduce((n, s) => n + s.usage.headroom, 0)
                .toLocaleString('en')}{' '}
              more of IPv4{scopes.data?.length === scopesMost && '; search for others'}
            </span>
          )}
        />
      </div>
      {params.has('defaults') && defaults.data && (
        <ItemForm<Fields>
          open
          of={defaults.data}
          title="Edit what holds everywhere"
          onClose={() => set('defaults', '')}
          hint=""
          initial={fieldsOf(defaults.data)}
          toEdit={(v) => editOf(v, defaults.data)}
          fields={() => (
            <>
              <Form.Item name="lease" label="Lease time">
                <Input />
              </Form.Item>
              <Form.Item name="identity" label="Clients are told apart by">
                <Select
                  options={[
                    { value: 'identifier', label: 'the client identifier, if they send one' },
                    { value: 'hardware', label: 'the hardware address alone' },
                  ]}
                />
              </Form.Item>
              <Form.Item name="options" label="Options" extra="One a line: name=value">
                <Input.TextArea className="mono" autoSize={{ minRows: 3, maxRows: 14 }} />
              </Form.Item>
              <Form.Item
                name="listening"
                label="Listen only"
                extra="The whole server hears and sends nothing"
                valuePropName="checked"
              >
                <Switch />
              </Form.Item>
              <Form.Item name="warnUsed" label="Warn of scopes above" extra="Empty: 90 %; -1: never">
                <InputNumber min={-1} max={100} suffix="% used" />
              </Form.Item>
              <Form.Item name="warnHeadroom" label="Warn of scopes with less than">
                <InputNumber min={-1} suffix="left" />
              </Form.Item>
              <Form.Item name="warnDays" label="Warn ahead of running out" extra="Empty: 14 days; -1: never">
                <InputNumber min={-1} max={365} suffix="days" />
              </Form.Item>
              <Form.Item name="note" label="Note">
                <Input />
              </Form.Item>
            </>
          )}
        />
      )}
      <ScopeForm
        open={params.has('add')}
        subnet={params.get('subnet') ?? undefined}
        onClose={() =>
          setParams(
            (p) => {
              p.delete('add')
              p.delete('subnet')
              return p
            },
            { replace: true },
          )
        }
        onDone={(name) => go('/plan/' + name)}
      />
    </>
  )
}
