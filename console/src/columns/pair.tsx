import type { TableColumnsType } from 'antd'
import type { Pair, PairComparison, PairScope } from '../api/client'
import { count, Mono, StatusMark, When } from '../parts/bits'

const free = (n: number, low: boolean) => (low ? <StatusMark status="warn" word={n + ' low'} /> : count(n))

export const differenceColumns = (pair: Pair): TableColumnsType<PairComparison['differences'][number]> => [
  { title: 'Address', render: (_, d) => <Mono>{d.address}</Mono> },
  {
    title: 'What',
    render: (_, d) => <StatusMark status={d.class === 'wrong' ? 'bad' : 'warn'} word={d.class} />,
  },
  { title: pair.own.name, render: (_, d) => d.own?.status ?? 'nothing' },
  { title: pair.partner?.name, render: (_, d) => d.partner?.status ?? 'nothing' },
  { title: 'Why', dataIndex: 'text' },
]

export const shareColumns = (pair: Pair): TableColumnsType<PairScope> => [
  { title: 'Scope', dataIndex: 'scope' },
  { title: 'Active', dataIndex: 'active', align: 'right' },
  { title: pair.own.name, align: 'right', render: (_, s) => free(s.own, s.ownLow) },
  { title: pair.partner?.name, align: 'right', render: (_, s) => free(s.partner, s.partnerLow) },
  {
    title: '',
    width: '30%',
    render: (_, s) => (
      <div className="split" aria-hidden>
        <i style={{ flexGrow: s.own }} />
        <b style={{ flexGrow: s.partner }} />
        <u style={{ flexGrow: s.active }} />
      </div>
    ),
  },
]

export const hearingColumns = (own: string, other: string): TableColumnsType<Pair['relays'][number]> => [
  { title: 'Link', render: (_, r) => r.link || <Mono>{r.address}</Mono> },
  { title: own, render: (_, r) => (r.own ? <When at={r.own} /> : 'never') },
  { title: other, render: (_, r) => (r.partner ? <When at={r.partner} /> : 'never') },
  {
    title: '',
    render: (_, r) => r.warning && <StatusMark status="warn" word="one server alone" />,
  },
]
