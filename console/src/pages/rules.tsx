import { useQuery } from '@tanstack/react-query'
import { Button, Form, Input, InputNumber, Segmented, Select, Space, Switch, Table } from 'antd'
import { useEffect, useState } from 'react'
import {
  call,
  items,
  type Edit,
  type List,
  type Rule,
  type RuleTried,
  type RuleVariable,
  type Supernet,
} from '../api/client'
import { useScopes } from '../api/scopes'
import { editOf as listEditOf, fieldsOf as listFieldsOf, type Fields as ListFields } from '../edits/list'
import { editOf, fieldsOf, inSupernet, kinds, whenOf, type Fields } from '../edits/rule'
import { Empty, Failure, Mono } from '../parts/bits'
import { ItemForm } from '../parts/itemform'
import { Confirm } from '../parts/preview'
import { SubNav } from '../parts/subnav'
import { opens } from '../parts/opens'
import { ruleColumns, listColumns } from '../columns/rules'

/** Rules in the order in which they are asked, and the lists they look into. */
export default function Rules() {
  const rules = useQuery({ queryKey: ['rules'], queryFn: () => items<Rule>('/rules'), refetchInterval: 5000 })
  const lists = useQuery({ queryKey: ['lists'], queryFn: () => items<List>('/lists') })
  const scopes = useScopes()
  const supernets = useQuery({ queryKey: ['supernets'], queryFn: () => items<Supernet>('/supernets') })
  const [form, setForm] = useState<Rule | 'new' | null>(null)
  const [list, setList] = useState<List | 'new' | null>(null)
  const [edits, setEdits] = useState<Edit[] | null>(null)
  const old = form && form !== 'new' ? form : undefined
  const oldList = list && list !== 'new' ? list : undefined
  return (
    <>
      <div className="head">
        <div>
          <h1>Rules</h1>
          <span className="quiet">
            Those of the defaults are asked first, then those of the scope, in order; each that fits contributes, the
            first to set a value keeps it, one that ignores or refuses ends it
          </span>
        </div>
        <Button onClick={() => setList('new')}>Add a list</Button>
        <Button type="primary" onClick={() => setForm('new')}>
          Add a rule
        </Button>
      </div>
      <SubNav of="plan" />
      <Failure error={rules.error} />
      <div className="grid">
        <div className="panel flush">
          <Table<Rule>
            size="small"
            rowKey="name"
            dataSource={rules.data}
            loading={rules.isLoading}
            pagination={false}
            className="clickable"
            onRow={(r) => opens(() => setForm(r))}
            locale={{
              emptyText: (
                <Empty>
                  No rule is defined. A rule gives some clients other values, confines them to a pool, or turns them
                  away.
                </Empty>
              ),
            }}
            columns={ruleColumns(setEdits)}
          />
        </div>
        <div className="panel flush">
          <h2>Lists</h2>
          <Table<List>
            size="small"
            rowKey="name"
            dataSource={lists.data}
            pagination={false}
            className="clickable"
            onRow={(l) => opens(() => setList(l))}
            locale={{
              emptyText: (
                <Empty>No list is defined. A list names hardware addresses or identifiers that rules ask for.</Empty>
              ),
            }}
            columns={listColumns(setEdits)}
          />
        </div>
      </div>
      {form && (
        <ItemForm<Fields>
          kind="rule"
          open
          of={old}
          title={old ? `Edit rule ${old.name}` : 'Add a rule'}
          onClose={() => setForm(null)}
          hint="Give a name, a condition and what its clients get; the effect shows here before anything is changed."
          initial={fieldsOf(old)}
          toEdit={(v) => editOf(v, old)}
          fields={(v) => (
            <>
              <Form.Item name="name" label="Name">
                <Input placeholder="toys" />
              </Form.Item>
              <Form.Item name="of" label="Of">
                <Select
                  allowClear
                  showSearch
                  placeholder="the defaults: asked for every scope"
                  options={[
                    ...(supernets.data ?? []).map((n) => ({ value: inSupernet + n.name, label: inSupernet + n.name })),
                    ...(scopes.data ?? []).map((s) => ({ value: s.name, label: s.name })),
                  ]}
                />
              </Form.Item>
              <Form.Item name="how" label="When">
                <Segmented
                  options={[
                    { value: 'form', label: 'Choose' },
                    { value: 'cel', label: 'Write an expression' },
                  ]}
                />
              </Form.Item>
              {v.how === 'cel' ? (
                <Form.Item name="when" extra={<Variables />}>
                  <Input.TextArea
                    className="mono"
                    autoSize={{ minRows: 2, maxRows: 8 }}
                    placeholder={'hw.startsWith("02:4c:00:") && vendor == "toy"'}
                  />
                </Form.Item>
              ) : (
                <Form.List name="parts">
                  {(rows, { add, remove }) => (
                    <div style={{ marginBottom: 12 }}>
                      {rows.map((r) => (
                        <Space.Compact key={r.key} block style={{ marginBottom: 6 }}>
                          <Form.Item name={[r.name, 'what']} noStyle>
                            <Select
                              style={{ width: 230 }}
                              options={Object.entries(kinds).map(([value, k]) => ({ value, label: k.label }))}
                            />
                          </Form.Item>
                          <Form.Item name={[r.name, 'value']} noStyle>
                            <Input className="mono" placeholder={kinds[v.parts?.[r.name]?.what ?? '']?.hint} />
                          </Form.Item>
                          <Button
                            aria-label="Take this condition away"
                            disabled={rows.length === 1}
                            onClick={() => remove(r.name)}
                          >
                            −
                          </Button>
                        </Space.Compact>
                      ))}
                      <Space>
                        <Button size="small" onClick={() => add({ what: 'vendor' })}>
                          + Condition
                        </Button>
                        {rows.length > 1 && (
                          <Form.Item name="any" noStyle valuePropName="checked">
                            <Switch size="small" checkedChildren="any of them" unCheckedChildren="all of them" />
                          </Form.Item>
                        )}
                      </Space>
                      <div className="expr quiet" style={{ marginTop: 6 }}>
                        {whenOf(v)}
                      </div>
                    </div>
                  )}
                </Form.List>
              )}
              <Form.Item name="action" label="Then">
                <Select
                  options={[
                    { value: '', label: 'give them what is set below' },
                    { value: 'ignore', label: 'ignore them: silence' },
                    { value: 'refuse', label: 'refuse them' },
                    { value: 'reserved', label: 'serve them only by reservation' },
                  ]}
                />
              </Form.Item>
              {v.action !== 'ignore' && v.action !== 'refuse' && (
                <>
                  <Form.Item
                    name="pool"
                    label="From the pool"
                    extra="A pool of the scope; it is then for these clients alone"
                  >
                    <Input className="mono" placeholder="any" />
                  </Form.Item>
                  <Form.Item name="lease" label="Lease time">
                    <Input placeholder="as the scope says" />
                  </Form.Item>
                  <Form.Item name="options" label="Options" extra="One a line: name=value, or none">
                    <Input.TextArea
                      className="mono"
                      autoSize={{ minRows: 1, maxRows: 6 }}
                      placeholder="header/boot-file=loom.efi"
                    />
                  </Form.Item>
                </>
              )}
              <Space size={24}>
                <Form.Item name="order" label="Order">
                  <InputNumber min={1} placeholder="last" />
                </Form.Item>
                <Form.Item name="off" label="Off" valuePropName="checked">
                  <Switch />
                </Form.Item>
              </Space>
              <Form.Item name="note" label="Note">
                <Input />
              </Form.Item>
            </>
          )}
          aside={(v) => <Tried when={whenOf(v)} scope={v.of?.startsWith(inSupernet) ? '' : (v.of ?? '')} />}
        />
      )}
      {list && (
        <ItemForm<ListFields>
          kind="list"
          open
          of={oldList}
          title={oldList ? `Edit list ${oldList.name}` : 'Add a list'}
          onClose={() => setList(null)}
          hint="Give the list a name."
          initial={listFieldsOf(oldList)}
          toEdit={(v) => listEditOf(v, oldList)}
          fields={() => (
            <>
              <Form.Item name="name" label="Name">
                <Input placeholder="lent-out" />
              </Form.Item>
              <Form.Item name="entries" label="Entries" extra="Hardware addresses or client identifiers, one a line">
                <Input.TextArea
                  className="mono"
                  autoSize={{ minRows: 4, maxRows: 20 }}
                  placeholder="02:40:10:00:00:07"
                />
              </Form.Item>
              <Form.Item name="note" label="Note">
                <Input />
              </Form.Item>
            </>
          )}
        />
      )}
      <Confirm title="Remove it" wish={edits} onClose={() => setEdits(null)} />
    </>
  )
}

function Variables() {
  const q = useQuery({
    queryKey: ['variables'],
    queryFn: () => items<RuleVariable>('/rules/variables'),
    staleTime: Infinity,
  })
  return (
    <details>
      <summary>What an expression can ask</summary>
      <table>
        {
          <tbody>
            {q.data?.map((v) => (
              <tr key={v.name}>
                <td>
                  <Mono>{v.name}</Mono>
                </td>
                <td>{v.meaning}</td>
              </tr>
            ))}
          </tbody>
        }
      </table>
    </details>
  )
}

/** Whom the condition would fit, of the clients on record. */
function Tried({ when, scope }: { when: string; scope: string }) {
  const [asked, setAsked] = useState({ when, scope })
  useEffect(() => {
    const t = setTimeout(() => setAsked({ when, scope }), 400)
    return () => clearTimeout(t)
  }, [when, scope])
  const q = useQuery({
    queryKey: ['try', asked],
    queryFn: () => call<RuleTried>('POST', '/rules/try', {}, asked),
    enabled: asked.when !== '',
    retry: false,
    gcTime: 0,
  })
  return (
    <section style={{ marginBottom: 18 }}>
      <h2>Whom it would fit</h2>
      {asked.when === '' && <p className="quiet">Clients on record that fit the condition show here.</p>}
      <Failure error={q.error} />
      {q.data && (
        <>
          <p style={{ margin: '0 0 6px' }}>
            <b className="figure">{q.data.fits.toLocaleString('en')}</b> of {q.data.of.toLocaleString('en')} clients on
            record, as they asked last
          </p>
          {q.data.examples.map((l) => (
            <div key={l.address}>
              <Mono>{l.hardware}</Mono> {l.hostname}{' '}
              <span className="quiet">
                {l.scope} {l.vendor}
              </span>
            </div>
          ))}
        </>
      )}
    </section>
  )
}
