import type { TableColumnsType } from 'antd'
import type { ReactNode } from 'react'
import { Link } from 'react-router'
import type { Unserved } from '../api/client'
import { Mono, StatusMark, When } from '../parts/bits'

export const unservedColumns = (mend: (u: Unserved) => ReactNode): TableColumnsType<Unserved> => [
  {
    title: 'Client',
    render: (_, u) => (
      <>
        {u.hostname || 'no name'}
        <br />
        <span className="quiet">
          <Mono>{u.hardware}</Mono>
        </span>
      </>
    ),
    sorter: (a, b) => a.hardware.localeCompare(b.hardware),
  },
  {
    title: 'Why',
    render: (_, u) => (
      <span style={{ whiteSpace: 'normal', overflowWrap: 'anywhere', display: 'inline-block', maxWidth: 230 }}>
        <StatusMark status="bad" word={u.text} />
        {u.servers && (
          <span className="quiet" style={{ display: 'block', marginLeft: 24 }}>
            by {u.servers.join(' and ')}
          </span>
        )}
      </span>
    ),
    sorter: (a, b) => a.text.localeCompare(b.text),
  },
  { title: 'Scope', render: (_, u) => u.scope && <Link to={'/plan/' + u.scope}>{u.scope}</Link> },
  {
    title: 'From',
    render: (_, u) => (
      <>
        <Mono>{u.relay || u.interface}</Mono>
        {u.circuit && (
          <>
            <br />
            <span className="quiet">
              <Mono>{u.circuit}</Mono>
            </span>
          </>
        )}
      </>
    ),
  },
  {
    title: 'Asked',
    render: (_, u) => (
      <>
        {u.count}×, last <When at={u.last} />
        <br />
        <span className="quiet">
          since <When at={u.first} />
        </span>
      </>
    ),
    sorter: (a, b) => a.last.localeCompare(b.last),
  },
  { title: 'Mend', render: (_, u) => mend(u) },
]
