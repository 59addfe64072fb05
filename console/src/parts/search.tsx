import { useQuery } from '@tanstack/react-query'
import { Input, Modal } from 'antd'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { get, items, type Lease, type Page, type Reservation, type Scope } from '../api/client'
import { Mono, StatusMark } from './bits'

interface Hit {
  key: string
  to: string
  what: string
  title: string
  detail: string
  status: string
}

async function find(text: string): Promise<Hit[]> {
  const [scopes, leases, reservations] = await Promise.all([
    items<Scope>('/scopes', { search: text, limit: 5 }),
    get<Page<Lease>>('/leases', { search: text, limit: 8 }),
    items<Reservation>('/reservations', { search: text, limit: 5 }),
  ])
  return [
    ...scopes.map((s) => ({
      key: 's' + s.name,
      to: '/plan/' + s.name,
      what: 'scope',
      title: s.name,
      detail: s.subnet,
      status: s.mode,
    })),
    ...leases.items.map((l) => ({
      key: 'l' + l.address,
      to: '/leases?open=' + l.address,
      what: 'lease',
      title: l.address,
      detail: `${l.hardware} ${l.hostname}`,
      status: l.status,
    })),
    ...reservations.map((r) => ({
      key: 'r' + r.name,
      to: `/plan/${r.scope}?tab=reservations`,
      what: 'reservation',
      title: r.name,
      detail: `${r.address} ${r.hardware}`,
      status: 'reserved',
    })),
  ]
}

/** Searches addresses, hardware addresses, host names and scopes. */
export function SearchBox({ open, onClose }: { open: boolean; onClose: () => void }) {
  const go = useNavigate()
  const [text, setText] = useState('')
  const [at, setAt] = useState(0)
  const hits = useQuery({
    queryKey: ['search', text],
    queryFn: () => find(text),
    enabled: open && text.trim().length > 1,
    placeholderData: (old) => old,
  })
  const list = text.trim().length > 1 ? (hits.data ?? []) : []
  const choose = (h?: Hit) => {
    if (!h) return
    onClose()
    go(h.to)
  }
  return (
    <Modal
      open={open}
      onCancel={onClose}
      footer={null}
      closable={false}
      destroyOnHidden
      afterOpenChange={(shown) => {
        if (!shown) setText('')
      }}
      width={560}
      style={{ top: 80 }}
    >
      <Input
        autoFocus
        size="large"
        placeholder="Address, hardware address, host name or scope"
        value={text}
        aria-label="Search everything"
        onChange={(e) => {
          setText(e.target.value.replace(/^\//, ''))
          setAt(0)
        }}
        onKeyDown={(e) => {
          if (e.key === 'ArrowDown') setAt(Math.min(at + 1, list.length - 1))
          else if (e.key === 'ArrowUp') setAt(Math.max(at - 1, 0))
          else if (e.key === 'Enter') choose(list[at])
          else return
          e.preventDefault()
        }}
      />
      <div style={{ marginTop: 8 }}>
        {list.map((h, i) => (
          <div key={h.key} className={'hit' + (i === at ? ' on' : '')} onClick={() => choose(h)}>
            <span className="quiet" style={{ width: 78 }}>
              {h.what}
            </span>
            <span style={{ width: 150 }}>
              <Mono>{h.title}</Mono>
            </span>
            <span style={{ flex: 1 }}>{h.detail}</span>
            <StatusMark status={h.status} />
          </div>
        ))}
        {text.trim().length > 1 && hits.isSuccess && list.length === 0 && (
          <p className="quiet">Nothing fits “{text}”.</p>
        )}
        {text.trim().length <= 1 && (
          <p className="quiet">
            Hardware addresses may be written in any way. <kbd>g</kbd> and a letter moves: <kbd>t</kbd>oday,{' '}
            <kbd>p</kbd>lan, <kbd>l</kbd>eases, <kbd>u</kbd>nserved, <kbd>c</kbd>hanges.
          </p>
        )}
      </div>
    </Modal>
  )
}
