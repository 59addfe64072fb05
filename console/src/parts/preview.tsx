import { useQuery } from '@tanstack/react-query'
import { Button, Checkbox, Modal } from 'antd'
import { useEffect, useState } from 'react'
import { change, type ChangeResult, type Edit } from '../api/client'
import { Failure, plural } from './bits'

/** What a change does, in plain words. */
export function Effects({ result }: { result: ChangeResult }) {
  return (
    <>
      {result.scopes.map((s) => (
        <div className="sums" key={s.name} style={{ marginBottom: 8 }}>
          <span><b>{s.usage.size.toLocaleString('en')}</b>in the pools</span>
          <span><b>{s.usage.excluded.toLocaleString('en')}</b>excluded</span>
          <span><b>{s.usage.spare.toLocaleString('en')}</b>left for reservations</span>
          <span><b>{s.lease}</b>lease time</span>
          <span><b>{s.mask}</b>mask</span>
        </div>
      ))}
      {result.effects.map((e) => (
        <div className={'note' + (e.strands ? ' bad' : '')} key={e.text}>{e.text}.</div>
      ))}
      {result.advice.map((a) => (
        <div className="note" key={a.code + a.subject}><b>Advice</b> {a.subject}: {a.text}.</div>
      ))}
      {result.resolved.map((r) => <div className="note" key={r}><b>Resolved</b> {r}</div>)}
      <ul className="diff">
        {result.diff.map((d, i) => (
          <li key={i} className={d.after && !d.before ? 'new' : d.before && !d.after ? 'gone' : ''}>
            <span className="quiet">{d.kind} {d.name}</span> {d.text}
          </li>
        ))}
      </ul>
      {result.diff.length === 0 && <p className="quiet">Nothing would change: the plan says so already.</p>}
    </>
  )
}

/** Asks the server what edits would do, a moment after the last keystroke. */
export function usePreview(edits: Edit[] | null, base?: number) {
  const text = JSON.stringify(edits)
  const [settled, setSettled] = useState(text)
  useEffect(() => {
    const t = setTimeout(() => setSettled(text), 250)
    return () => clearTimeout(t)
  }, [text])
  const asked = JSON.parse(settled) as Edit[] | null
  return useQuery({
    queryKey: ['preview', settled, base],
    queryFn: () => change(asked!, { dryRun: true, base }),
    enabled: asked !== null,
    retry: false,
    gcTime: 0,
    placeholderData: (old) => old,
  })
}

/** Shows what edits would do and applies them on a click. */
export function Confirm({ title, edits, onClose, onDone }: { title: string; edits: Edit[] | null; onClose: () => void; onDone?: (r: ChangeResult) => void }) {
  const preview = usePreview(edits)
  const [meant, setMeant] = useState(false)
  const [error, setError] = useState<unknown>()
  const [busy, setBusy] = useState(false)
  useEffect(() => {
    setMeant(false)
    setError(undefined)
  }, [edits])
  const strands = preview.data?.effects.filter((e) => e.strands).reduce((n, e) => n + e.clients, 0) ?? 0
  const apply = async () => {
    setBusy(true)
    try {
      const done = await change(edits!, { confirm: meant, base: preview.data?.base })
      onDone?.(done)
      onClose()
    } catch (e) {
      setError(e)
    }
    setBusy(false)
  }
  return (
    <Modal
      open={edits !== null}
      title={title}
      onCancel={onClose}
      width={620}
      footer={[
        <Button key="no" onClick={onClose}>Leave it</Button>,
        <Button key="yes" type="primary" danger={strands > 0} loading={busy} onClick={apply}
          disabled={!preview.data || preview.isError || (strands > 0 && !meant)}>Apply</Button>,
      ]}
    >
      <Failure error={preview.error ?? error} />
      {preview.data && !preview.isError && <Effects result={preview.data} />}
      {strands > 0 && (
        <Checkbox checked={meant} onChange={(e) => setMeant(e.target.checked)}>
          Go ahead although {plural(strands, 'client')} would be left without service
        </Checkbox>
      )}
    </Modal>
  )
}
