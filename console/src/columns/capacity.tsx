import type { TableColumnsType } from 'antd'
import { Link } from 'react-router'
import type { Capacity } from '../api/client'
import { count, Mono } from '../parts/bits'
import { Trend } from '../parts/trend'
import { RunsOut, urgency } from '../parts/forecast'

const moment = (c: Capacity) => {
  const u = urgency(c)
  if (u === 0) return 0
  const f = c.forecast
  if (f?.date) return Date.parse(f.date)
  if (f?.early) return Date.parse(f.early) + 1e12
  return c.size === 0 ? 9e15 : 8e15 - c.share
}

const where = (c: Capacity) =>
  c.kind === 'link' || c.kind === 'all'
    ? '/capacity/~all'
    : c.kind === 'supernet'
      ? `/capacity/${encodeURIComponent(c.name)}?of=supernet`
      : `/capacity/${c.name}${c.pool ? '?pool=' + encodeURIComponent(c.pool) : ''}`

export const capacityColumns = (paired: boolean): TableColumnsType<Capacity> => [
  {
    title: 'What',
    sorter: (a, b) => a.name.localeCompare(b.name),
    render: (_, c) => (
      <>
        <Link to={where(c)}>{c.kind === 'all' ? 'All together' : c.name}</Link>
        {(c.kind === 'link' || c.kind === 'supernet') && <span className="quiet"> {c.kind}</span>}
        {c.pool && (
          <>
            {' '}
            <Mono>{c.pool}</Mono>
          </>
        )}
        {c.mode && c.mode !== 'serving' && <span className="quiet"> {c.mode}</span>}
      </>
    ),
  },
  {
    title: 'Last 28 days',
    render: (_, c) => <Trend list={c.trend} size={c.size} label={`Daily peaks of ${c.name}`} />,
  },
  {
    title: 'Runs out',
    defaultSortOrder: 'ascend',
    sorter: (a, b) => moment(a) - moment(b),
    render: (_, c) => <RunsOut of={c} />,
  },
  {
    title: 'Used',
    align: 'right',
    sorter: (a, b) => a.share - b.share,
    render: (_, c) =>
      c.size === 0 ? (
        ''
      ) : (
        <>
          {c.used.toLocaleString('en')} <span className="quiet">of {count(c.size)}</span>
        </>
      ),
  },
  {
    title: '',
    align: 'right',
    render: (_, c) => (c.size === 0 ? '' : `${Math.round(c.share * 100)} %`),
  },
  {
    title: paired ? 'Left here' : 'Left',
    align: 'right',
    sorter: (a, b) => a.headroom - b.headroom,
    render: (_, c) => count(c.headroom),
  },
  ...(paired
    ? [
        {
          title: 'At the partner',
          align: 'right' as const,
          sorter: (a: Capacity, b: Capacity) => a.partner - b.partner,
          render: (_: unknown, c: Capacity) => count(c.partner),
        },
      ]
    : []),
  {
    title: 'Reserved',
    align: 'right',
    render: (_, c) => (c.reserved ? `${c.claimed} of ${c.reserved} claimed` : ''),
  },
  {
    title: 'A day',
    align: 'right',
    sorter: (a, b) => (a.forecast?.perDay ?? 0) - (b.forecast?.perDay ?? 0),
    render: (_, c) =>
      c.forecast && Math.abs(c.forecast.perDay) >= 0.05
        ? (c.forecast.perDay > 0 ? '+' : '') + c.forecast.perDay.toFixed(1)
        : '',
  },
]
