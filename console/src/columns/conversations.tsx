import type { TableColumnsType } from 'antd'
import type { Exchange } from '../api/client'
import { Mono, StatusMark } from '../parts/bits'

const good = (x: Exchange) =>
  x.fate === 'sent' && x.outcome !== 'refused'
    ? 'good'
    : x.outcome === 'released' || x.fate === 'recording'
      ? 'offered'
      : x.fate === 'withheld'
        ? 'held'
        : 'bad'

export const exchangeColumns = (): TableColumnsType<Exchange> => [
  {
    title: 'At',
    render: (_, x) => (
      <Mono>
        {new Date(x.at).toLocaleTimeString('en-GB')}.{String(new Date(x.at).getMilliseconds()).padStart(3, '0')}
      </Mono>
    ),
  },
  { title: 'Message', dataIndex: 'type' },
  {
    title: 'Client',
    render: (_, x) => (
      <>
        {x.hostname || 'no name'}
        <br />
        <span className="quiet">
          <Mono>{x.hardware}</Mono>
        </span>
      </>
    ),
  },
  {
    title: 'Way',
    render: (_, x) => (
      <>
        <Mono>{x.relay || x.interface}</Mono>
        {x.circuit && (
          <>
            <br />
            <span className="quiet">
              <Mono>{x.circuit}</Mono>
            </span>
          </>
        )}
      </>
    ),
  },
  {
    title: 'Decision',
    render: (_, x) => (
      <span style={{ whiteSpace: 'normal', display: 'inline-block', maxWidth: 300 }}>
        <StatusMark status={good(x)} word={x.text} />
      </span>
    ),
  },
  { title: 'Scope', dataIndex: 'scope' },
  {
    title: 'Reply',
    render: (_, x) =>
      x.fate === 'sent' ? (
        <span className="num">{x.millis.toFixed(1)} ms</span>
      ) : (
        <span className="quiet">{x.fate}</span>
      ),
  },
]
