import { Button, type TableColumnsType } from 'antd'
import type { Alert } from '../api/client'
import { When } from '../parts/bits'
import { Severity } from '../parts/findings'

export const alertColumns = (silence: (a: Alert) => void): TableColumnsType<Alert> => [
  { title: 'Severity', width: 100, render: (_, a) => <Severity of={a.severity} /> },
  { title: 'Subject', width: 200, dataIndex: 'subject' },
  { title: 'What', render: (_, a) => a.text + '.' },
  { title: 'Since', width: 90, render: (_, a) => <When at={a.since} /> },
  {
    title: '',
    width: 170,
    render: (_, a) =>
      a.silenced ? (
        <span className="quiet">
          silenced <When at={a.silenced.until} />
        </span>
      ) : (
        <Button size="small" onClick={() => silence(a)}>
          Silence
        </Button>
      ),
  },
]
