import { useQuery, useQueryClient } from '@tanstack/react-query'
import { Button, Checkbox, Modal } from 'antd'
import { useEffect, useState } from 'react'
import { change, type ChangeResult, type Wish } from '../api/client'
import { count, Failure, plural } from './bits'
import { useGathering } from './gathering'

const scopesShown = 3 // of a change, with their sums
const linesShown = 300 // of a difference

/** What a change does, in plain words. */
export function Effects({ result }: { result: ChangeResult }) {
  return (
    <>
      {result.scopes.slice(0, scopesShown).map((s) => (
        <div className="sums" key={s.name} style={{ marginBottom: 8 }}>
          {result.scopes.length > 1 && (
            <span>
              <b>{s.name}</b>scope
            </span>
          )}
          <span>
            <b>{count(s.usage.size)}</b>in the pools
          </span>
          <span>
            <b>{count(s.usage.excluded)}</b>excluded
          </span>
          <span>
            <b>{count(s.usage.spare)}</b>left for reservations
          </span>
          <span>
            <b>{s.lease}</b>lease time
          </span>
          <span>
            <b>{s.mask || s.valid}</b>
            {s.mask ? 'mask' : 'valid lifetime'}
          </span>
        </div>
      ))}
      {result.into && <p className="quiet">All that is gathered in {result.into}, with this, as a whole:</p>}
      {result.needs && (
        <div className="note">
          <b>Approval</b> Changes of {result.needs} need a second person’s.
        </div>
      )}
      {result.effects.map((e) => (
        <div className={'note' + (e.strands ? ' bad' : '')} key={e.text}>
          {e.text}.
        </div>
      ))}
      {result.advice.map((a) => (
        <div className="note" key={a.code + a.subject}>
          <b>Advice</b> {a.subject}: {a.text}.
        </div>
      ))}
      {result.resolved.map((r) => (
        <div className="note" key={r}>
          <b>Resolved</b> {r}
        </div>
      ))}
      <ul className="diff">
        {result.diff.slice(0, linesShown).map((d, i) => (
          <li key={i} className={d.after && !d.before ? 'new' : d.before && !d.after ? 'gone' : ''}>
            <span className="quiet">
              {d.kind} {d.name}
            </span>{' '}
            {d.text}
          </li>
        ))}
      </ul>
      {result.lines > linesShown && (
        <p className="quiet">and {plural(result.lines - linesShown, 'line')} more of the difference</p>
      )}
      {result.inherited > 0 && (
        <>
          <p className="quiet">
            {plural(result.inherited, 'setting is', 'settings are')} inherited differently
            {result.inherits.length < result.inherited && `; the first ${result.inherits.length}`}:
          </p>
          <ul className="diff">
            {result.inherits.map((d, i) => (
              <li key={i}>
                <span className="quiet">
                  {d.kind} {d.name}
                </span>{' '}
                {d.text}
              </li>
            ))}
          </ul>
        </>
      )}
      {result.diff.length === 0 && <p className="quiet">Nothing would change: the plan says so already.</p>}
    </>
  )
}

/** Asks the server what a change would do, a moment after the last keystroke. */
function usePreview(wish: Wish | null, into?: string, base?: number) {
  const text = JSON.stringify(wish)
  const [settled, setSettled] = useState(text)
  useEffect(() => {
    const t = setTimeout(() => setSettled(text), 250)
    return () => clearTimeout(t)
  }, [text])
  const asked = JSON.parse(settled) as Wish | null
  const preview = useQuery({
    queryKey: ['preview', settled, into, base],
    queryFn: () => change(asked!, { dryRun: true, base, into }),
    enabled: asked !== null,
    retry: false,
    gcTime: 0,
    placeholderData: (old) => old,
  })
  return { preview, current: settled === text && !preview.isPlaceholderData }
}

/**
 * A change of the plan that is being thought over: what it would do, and what
 * makes it so. One that leaves clients without service has to be meant. It is
 * ready once what is shown is what would be kept.
 */
export function useChange(
  wish: Wish | null,
  onDone: (r: ChangeResult) => void,
  base?: number,
  onLine?: (line: number) => void,
) {
  const queries = useQueryClient()
  const gathering = useGathering()
  const into = wish && !Array.isArray(wish) && 'prepared' in wish ? undefined : gathering || undefined
  const { preview, current } = usePreview(wish, into, base)
  const [meant, setMeant] = useState(false)
  const [error, setError] = useState<unknown>()
  const [busy, setBusy] = useState(false)
  const text = JSON.stringify(wish)
  const [about, setAbout] = useState(text)
  if (about !== text) {
    setAbout(text)
    setMeant(false)
    setError(undefined)
  }
  const shown = wish && !preview.isError ? preview.data : undefined
  const silencing = (!into && shown?.effects.filter((e) => e.strands)) || []
  const clients = silencing.reduce((n, e) => n + e.clients, 0)
  const apply = async () => {
    setBusy(true)
    try {
      const done = await change(wish!, { confirm: meant, base: base ?? preview.data?.base, into })
      setError(undefined)
      queries.invalidateQueries()
      onDone(done)
    } catch (e) {
      setError(e)
    }
    setBusy(false)
  }
  const view = (
    <>
      <Failure error={error ?? (wish ? preview.error : undefined)} onLine={onLine} />
      {shown && <Effects result={shown} />}
      {silencing.length > 0 && (
        <Checkbox checked={meant} onChange={(e) => setMeant(e.target.checked)}>
          Go ahead although {clients > 0 ? plural(clients, 'client') : 'clients'} would be left without service
        </Checkbox>
      )}
    </>
  )
  return {
    view,
    apply,
    busy,
    danger: silencing.length > 0,
    changes: (shown?.diff.length ?? 0) > 0,
    ready: current && shown !== undefined && (silencing.length === 0 || meant),
  }
}

/** Shows what a change would do and applies it on a click. */
export function Confirm({
  title,
  wish,
  onClose,
  onDone,
}: {
  title: string
  wish: Wish | null
  onClose: () => void
  onDone?: (r: ChangeResult) => void
}) {
  const c = useChange(wish, (done) => {
    onDone?.(done)
    onClose()
  })
  return (
    <Modal
      open={wish !== null}
      title={title}
      onCancel={onClose}
      width={620}
      footer={[
        <Button key="no" onClick={onClose}>
          Leave it
        </Button>,
        <Button key="yes" type="primary" danger={c.danger} loading={c.busy} onClick={c.apply} disabled={!c.ready}>
          Apply
        </Button>,
      ]}
    >
      {c.view}
    </Modal>
  )
}
