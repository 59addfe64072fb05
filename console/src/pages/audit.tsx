import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { Button, Segmented, Select, Switch, Table } from 'antd'
import { useState } from 'react'
import { useSearchParams } from 'react-router'
import { api, call, get, items, Problem, type AuditReport, type Finding, type FindingCode } from '../api/client'
import { Empty, Failure, paged, plural, When } from '../parts/bits'
import { Acknowledge } from '../parts/findings'
import { SubNav } from '../parts/subnav'
import { findingColumns } from '../columns/audit'
import { usePut, Search } from '../parts/filters'

/** All there is to know of a finding. */
function Whole({ of: f, code }: { of: Finding; code?: FindingCode }) {
  return (
    <div className="grid two unfolded">
      <div>
        <h2>What it means</h2>
        <p style={{ margin: 0 }}>{code?.means}</p>
        <p className="quiet" style={{ margin: '4px 0 0' }}>
          How it comes about: {code?.comes}
        </p>
        {f.examples.length > 0 && (
          <p className="mono" style={{ whiteSpace: 'normal' }}>
            {f.examples.join(', ')}
          </p>
        )}
      </div>
      <div>
        <h2>What to do</h2>
        <p style={{ margin: 0 }}>{f.mend}</p>
        {f.command && (
          <p style={{ margin: '4px 0 0' }}>
            <code className="mono">{f.command}</code>
          </p>
        )}
        {f.known && (
          <p className="quiet">
            Known to {f.known.by} until {f.known.until.slice(0, 10)}: {f.known.reason}
          </p>
        )}
      </div>
    </div>
  )
}

/** What is wrong or odd, the worst first, with its mend. */
export default function Audit() {
  const [params] = useSearchParams()
  const severity = params.get('severity') ?? ''
  const area = params.get('area') ?? ''
  const search = params.get('search') ?? ''
  const open = params.get('open') === '1'
  const queries = useQueryClient()
  const [chosen, setChosen] = useState<string[]>([])
  const [known, setKnown] = useState<Finding[]>([])
  const report = useQuery({
    queryKey: ['audit', severity, area, search, open],
    queryFn: () =>
      get<AuditReport>('/audit', { severity, area, search }).then((r) =>
        open ? { ...r, findings: r.findings.filter((f) => !f.known) } : r,
      ),
    refetchInterval: 30000,
    retry: false,
    placeholderData: (old) => old,
  })
  const codes = useQuery({ queryKey: ['codes', 'findings'], queryFn: () => items<FindingCode>('/audit/codes') })
  const run = useMutation({
    mutationFn: () => call<AuditReport>('POST', '/audit/runs', {}, {}),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['audit'] }),
  })
  const put = usePut()
  const r = report.data
  const list = r?.findings ?? []
  const none = report.error instanceof Problem && report.error.status === 404
  return (
    <>
      <div className="head">
        <div>
          <h1>Audit</h1>
          <span className="quiet">
            {r ? (
              <>
                {plural(r.troubles, 'trouble')}, {plural(r.warnings, 'warning')}, {plural(r.notes, 'note')}; {r.known}{' '}
                acknowledged, {r.fresh} new and {r.gone.length} gone since the audit before. Made <When at={r.at} /> for{' '}
                {r.why}, of {plural(r.leases, 'lease')} in {r.took.toFixed(1)} s
                {r.lost ? `; not on record: ${r.lost}` : ''}
              </>
            ) : none ? (
              'The first audit is made a few seconds after the start'
            ) : (
              ''
            )}
          </span>
        </div>
        <a href={api + '/audit/report'} download="yarnpost-audit.html">
          Report
        </a>
        <Button type="primary" loading={run.isPending} onClick={() => run.mutate()}>
          Audit now
        </Button>
      </div>
      <SubNav of="audit" />
      <div className="filters">
        <Segmented
          value={severity}
          onChange={(v) => put('severity', v)}
          options={[
            { value: '', label: 'All' },
            { value: 'warning', label: 'Warnings and worse' },
            { value: 'trouble', label: 'Troubles' },
          ]}
        />
        <Select
          allowClear
          placeholder="Any area"
          value={area || undefined}
          onChange={(v) => put('area', v)}
          style={{ width: 150 }}
          options={['plan', 'leases', 'pair', 'service'].map((value) => ({ value, label: value }))}
        />
        <Search value={search} hint="Subject, code, text" width={220} onSearch={(v) => put('search', v)} />
        <Switch
          size="small"
          checked={open}
          onChange={(v) => put('open', v ? '1' : undefined)}
          aria-label="Without what is acknowledged"
        />
        <span>without what is acknowledged</span>
        {chosen.length > 0 && (
          <Button onClick={() => setKnown(list.filter((f) => chosen.includes(f.key)))}>
            Acknowledge {plural(chosen.length, 'finding')}
          </Button>
        )}
      </div>
      {!none && <Failure error={report.error} />}
      <Failure error={run.error} />
      <div className="panel flush">
        <Table<Finding>
          size="small"
          rowKey="key"
          dataSource={list}
          loading={report.isLoading}
          pagination={paged}
          rowSelection={{ selectedRowKeys: chosen, onChange: (k) => setChosen(k as string[]) }}
          expandable={{
            expandedRowRender: (f) => <Whole of={f} code={codes.data?.find((c) => c.code === f.code)} />,
          }}
          locale={{ emptyText: <Empty>Nothing is wrong or odd here.</Empty> }}
          columns={findingColumns(setKnown)}
        />
      </div>
      {known.length > 0 && (
        <Acknowledge
          of={known}
          onClose={() => {
            setKnown([])
            setChosen([])
          }}
        />
      )}
    </>
  )
}
