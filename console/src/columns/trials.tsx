import { Button, type TableColumnsType } from 'antd'
import type { Check, Edit, Trial } from '../api/client'
import { Mono, StatusMark, When } from '../parts/bits'

const mark = { good: 'good', warning: 'warn', trouble: 'bad', unknown: 'unknown' } as const

export const trialColumns = (
  run: { mutate: (name: string) => void; isPending: boolean; variables?: string },
  open: (t: Trial) => void,
  change: (edits: Edit[]) => void,
): TableColumnsType<Trial> => [
  {
    title: 'Trial',
    render: (_, t) => (
      <>
        <b>{t.name}</b>
        {t.note && <div className="quiet">{t.note}</div>}
      </>
    ),
  },
  { title: 'Scope', dataIndex: 'scope' },
  {
    title: 'As',
    render: (_, t) => (
      <>
        <Mono>{t.hardware}</Mono> {t.vendor}
      </>
    ),
  },
  { title: 'Every', render: (_, t) => t.every || 'on demand' },
  {
    title: 'Last',
    render: (_, t) =>
      t.last ? (
        <>
          <StatusMark
            status={t.last.good ? 'good' : 'bad'}
            word={
              t.last.good
                ? `good, ${t.last.steps.reduce((n, s) => n + (s.millis ?? 0), 0).toFixed(1)} ms`
                : t.last.steps.find((s) => !s.good)?.what
            }
          />{' '}
          <span className="quiet">
            <When at={t.last.at} />
          </span>
        </>
      ) : (
        ''
      ),
  },
  {
    title: '',
    align: 'right',
    render: (_, t) => (
      <>
        <Button size="small" loading={run.isPending && run.variables === t.name} onClick={() => run.mutate(t.name)}>
          Run
        </Button>
        <Button size="small" type="link" onClick={() => open(t)}>
          Edit
        </Button>
        <Button size="small" type="link" danger onClick={() => change([{ op: 'remove', kind: 'trial', name: t.name }])}>
          Remove
        </Button>
      </>
    ),
  },
]

export const checkColumns = (): TableColumnsType<Check> => [
  { title: 'Check', render: (_, c) => <StatusMark status={mark[c.status]} word={c.name} /> },
  { title: 'Found', dataIndex: 'text' },
  { title: 'Mend', render: (_, c) => <span className="quiet">{c.mend}</span> },
]
