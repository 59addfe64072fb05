import { Button, type TableColumnsType } from 'antd'
import type { Finding } from '../api/client'
import { When } from '../parts/bits'
import { Mend, Severity } from '../parts/findings'

const rank: Record<string, number> = { trouble: 0, warning: 1, note: 2 }

export const findingColumns = (acknowledge: (f: Finding[]) => void): TableColumnsType<Finding> => [
  {
    title: 'Severity',
    width: 100,
    sorter: (a, b) => rank[a.severity] - rank[b.severity],
    render: (_, f) => <Severity of={f.severity} />,
  },
  {
    title: 'Subject',
    width: 176,
    sorter: (a, b) => a.subject.localeCompare(b.subject),
    render: (_, f) => (
      <>
        {f.subject}
        <div className="quiet mono" style={{ whiteSpace: 'normal' }}>
          {f.code}
        </div>
      </>
    ),
  },
  {
    title: 'What was found',
    render: (_, f) => (
      <>
        {f.text}.
        {f.known && (
          <div className="quiet">
            ✓ known to {f.known.by} until {f.known.until.slice(0, 10)}: {f.known.reason}
          </div>
        )}
      </>
    ),
  },
  {
    title: 'Since',
    width: 84,
    sorter: (a, b) => Date.parse(a.first) - Date.parse(b.first),
    render: (_, f) => (
      <>
        <When at={f.first} />
        {f.new && <div className="quiet">new</div>}
      </>
    ),
  },
  {
    title: '',
    width: 142,
    render: (_, f) => (
      <span style={{ display: 'flex', flexDirection: 'column', gap: 2, alignItems: 'flex-end' }}>
        <Mend of={f} />
        <Button type="link" size="small" style={{ paddingInline: 0 }} onClick={() => acknowledge([f])}>
          {f.known ? 'Known' : 'Acknowledge'}
        </Button>
      </span>
    ),
  },
]
