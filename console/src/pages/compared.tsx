import { useQuery } from '@tanstack/react-query'
import { DatePicker, Table } from 'antd'
import dayjs from 'dayjs'
import { useState } from 'react'
import { useSearchParams } from 'react-router'
import { get, type AuditDifference } from '../api/client'
import { comparedColumns, type Compared } from '../columns/compared'
import { Empty, Failure, paged, When } from '../parts/bits'
import { SubNav } from '../parts/subnav'

/** What changed between the audits of two moments, which are in the URL. */
export default function ComparedAudits() {
  const [params, setParams] = useSearchParams()
  const [yesterday] = useState(() => dayjs().subtract(1, 'day').toISOString())
  const from = params.get('from') ?? yesterday
  const to = params.get('to') ?? undefined
  const found = useQuery({
    queryKey: ['audit', 'between', from, to],
    queryFn: () => get<AuditDifference>('/audit/between', { from, to }),
    placeholderData: (old) => old,
    retry: false,
  })
  const d = found.data
  const set = (key: string, at: dayjs.Dayjs | null) =>
    setParams(
      (p) => {
        if (at) p.set(key, at.toISOString())
        else p.delete(key)
        return p
      },
      { replace: true },
    )
  const rows: Compared[] = [
    ...(d?.came ?? []).map((f) => ({ ...f, came: true })),
    ...(d?.went ?? []).map((f) => ({ ...f, came: false })),
  ]
  return (
    <>
      <div className="head">
        <div>
          <h1>Compared</h1>
          <span className="quiet">What one audit found and another did not, of any two dates within a year</span>
        </div>
      </div>
      <SubNav of="audit" />
      <div className="filters">
        <label htmlFor="from">The audit of</label>
        <DatePicker
          id="from"
          showTime={{ format: 'HH:mm' }}
          value={dayjs(from)}
          onChange={(at) => set('from', at)}
          maxDate={dayjs()}
        />
        <label htmlFor="to">and that of</label>
        <DatePicker
          id="to"
          showTime={{ format: 'HH:mm' }}
          placeholder="now"
          value={to ? dayjs(to) : null}
          onChange={(at) => set('to', at)}
          maxDate={dayjs()}
        />
        {d && (
          <span className="quiet">
            made <When at={d.from.at} /> and <When at={d.to.at} />: {d.text}
          </span>
        )}
      </div>
      <Failure error={found.error} />
      {!found.error && (
        <div className="panel flush">
          <Table<Compared>
            size="small"
            rowKey={(f) => f.key + f.came}
            dataSource={rows}
            loading={found.isLoading}
            pagination={paged}
            locale={{ emptyText: <Empty>Both found the same.</Empty> }}
            columns={comparedColumns}
          />
        </div>
      )}
    </>
  )
}
