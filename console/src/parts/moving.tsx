import { useQuery } from '@tanstack/react-query'
import { App, Modal, Select } from 'antd'
import { useState } from 'react'
import { get, type Move, type Scope } from '../api/client'
import { useScopes } from '../api/scopes'
import { Failure } from './bits'
import { outcome } from './gathering'
import { useChange } from './preview'

/** Moves everybody from a scope to another one of its link, as they renew. */
export function MoveAll({ scope, onClose }: { scope: Scope | null; onClose: () => void }) {
  const { message } = App.useApp()
  const [to, setTo] = useState<string>()
  const scopes = useScopes('', scope !== null)
  const isSix = (s: Scope) => s.subnet.includes(':')
  const others = scopes.data?.filter(
    (s) => scope && s.link === scope.link && s.name !== scope.name && isSix(s) === isSix(scope),
  )
  const move = useQuery({
    queryKey: ['move', scope?.name, to],
    queryFn: () => get<Move>(`/scopes/${encodeURIComponent(scope!.name)}/move`, { to: to! }),
    enabled: scope !== null && to !== undefined,
    retry: false,
    gcTime: 0,
  })
  const close = () => {
    setTo(undefined)
    onClose()
  }
  const c = useChange(scope && move.data ? move.data.edits : null, (done) => {
    message.success(outcome(done))
    close()
  })
  return (
    <Modal
      open={scope !== null}
      title={`Move everybody from ${scope?.name}`}
      width={620}
      okText="Move"
      onOk={c.apply}
      confirmLoading={c.busy}
      okButtonProps={{ disabled: !c.ready, danger: c.danger }}
      onCancel={close}
    >
      <p>
        <Select
          aria-label="The scope that they move to"
          placeholder="To which scope of the link?"
          className="wide"
          value={to}
          onChange={setTo}
          options={others?.map((s) => ({ value: s.name, label: `${s.name}  ${s.subnet}, ${s.mode}` }))}
        />
      </p>
      {others?.length === 0 && (
        <p>
          There is no other scope on link {scope?.link}. Define one there first; it may be held until everybody is to
          move.
        </p>
      )}
      <Failure error={move.error} />
      {move.data && <div className={'note' + (move.data.short ? ' bad' : '')}>{move.data.text}.</div>}
      {c.view}
    </Modal>
  )
}
