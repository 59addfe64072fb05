import { useQuery } from '@tanstack/react-query'
import { useNavigate } from 'react-router'
import { items, type Cell } from '../api/client'
import { Failure } from './bits'

const kinds = [
  'active',
  'registered',
  'offered',
  'reserved',
  'free',
  'released',
  'expired',
  'abandoned',
  'excluded',
  'outside',
]
const words: Record<string, string> = { outside: 'outside the pools' }

/** A scope as cells, one an address, or several when it is large. */
export function AddressMap({ scope }: { scope: string }) {
  const go = useNavigate()
  const map = useQuery({ queryKey: ['map', scope], queryFn: () => items<Cell>(`/scopes/${scope}/map`) })
  const cells = map.data ?? []
  const binned = (cells[0]?.size ?? 1) > 1
  const counts = new Map<string, number>()
  for (const c of cells) counts.set(c.status, (counts.get(c.status) ?? 0) + c.size)
  const label = (c: Cell) => {
    const who = [c.hostname, c.hardware].filter(Boolean).join(' ')
    const where = c.from === c.to ? c.from : `${c.from}–${c.to}`
    return `${where} ${words[c.status] ?? c.status}${binned && c.active ? `, ${c.active} of ${c.size} active` : ''}${who ? ` · ${who}` : ''}`
  }
  return (
    <>
      <Failure error={map.error} />
      <div
        className="map"
        style={{ gridTemplateColumns: `repeat(${cells.length > 256 ? 64 : 32}, 1fr)` }}
        role="grid"
        aria-label={'Address map of ' + scope}
      >
        {cells.map((c) => {
          const lease = ['active', 'registered', 'expired', 'released', 'abandoned'].includes(c.status)
          return (
            <button
              key={c.from}
              className={c.status + (lease ? ' link' : '')}
              title={label(c)}
              aria-label={label(c)}
              tabIndex={lease ? 0 : -1}
              onClick={() => lease && go(binned ? `/leases?scope=${scope}` : `/leases?scope=${scope}&open=${c.from}`)}
            />
          )
        })}
      </div>
      <div className="legend">
        {kinds
          .filter((k) => counts.has(k))
          .map((k) => (
            <span key={k}>
              <span className="map">
                <button className={k} tabIndex={-1} aria-hidden />
              </span>
              {words[k] ?? k}
              {!binned && <b className="num">{counts.get(k)!.toLocaleString('en')}</b>}
            </span>
          ))}
        {binned && (
          <span className="quiet">one cell is {cells[0].size} addresses and shows the most telling status</span>
        )}
      </div>
    </>
  )
}
