import { useMutation, useQueryClient } from '@tanstack/react-query'
import { App, Button, DatePicker, Input, Modal } from 'antd'
import dayjs, { type Dayjs } from 'dayjs'
import { useState } from 'react'
import { Link } from 'react-router'
import { call, type Edit, type Finding, type Swept } from '../api/client'
import { Failure } from './bits'
import { Confirm } from './preview'

const shapes: Record<string, [string, string]> = {
  trouble: ['bad', '!'],
  warning: ['warn', '!'],
  note: ['unknown', 'i'],
}

/** How much a finding matters, as a shape with its word. */
export function Severity({ of: s }: { of: string }) {
  const [kind, letter] = shapes[s] ?? shapes.note
  return (
    <span className={'status ' + kind}>
      <i aria-hidden>{letter}</i>
      {s}
    </span>
  )
}

const tail = (f: Finding) => f.subject.split(' ').slice(1).join(' ')

/** The edits that mend a finding, where there are such. */
function editsFor(f: Finding): Edit[] | null {
  const scope = f.scope ?? ''
  switch (f.code) {
    case 'idle-exclusion':
    case 'exclusion-unused':
      return [{ op: 'edit', kind: 'scope', name: scope, scope: { removeExclusions: [f.subject.split(' ').pop()!] } }]
    case 'list-unused':
      return [{ op: 'remove', kind: 'list', name: tail(f) }]
    case 'rule-shadowed':
    case 'rule-never-fits':
      return [{ op: 'remove', kind: 'rule', name: tail(f) }]
    case 'reservation-unclaimed':
    case 'reservation-unseen':
    case 'reservation-twice':
      return [{ op: 'remove', kind: 'reservation', name: tail(f) }]
    case 'held-wanted':
      return [{ op: 'edit', kind: 'scope', name: scope, scope: { mode: 'serving' } }]
    case 'infinite-lease':
      return [{ op: 'edit', kind: 'scope', name: scope, scope: { lease: '30d' } }]
    case 'identifier-twice':
      return [{ op: 'edit', kind: 'scope', name: scope, scope: { identity: 'hardware' } }]
    case 'drain-over':
    case 'scope-unused':
      return [{ op: 'edit', kind: 'scope', name: scope, scope: { mode: 'held' } }]
  }
  return null
}

const verbs: Record<string, string> = {
  'idle-exclusion': 'Remove the exclusion',
  'exclusion-unused': 'Remove the exclusion',
  'list-unused': 'Remove the list',
  'rule-shadowed': 'Remove the rule',
  'rule-never-fits': 'Remove the rule',
  'reservation-unclaimed': 'Remove it',
  'reservation-unseen': 'Remove it',
  'reservation-twice': 'Remove it',
  'held-wanted': 'Serve the scope',
  'infinite-lease': 'Let leases end',
  'identifier-twice': 'Tell by hardware',
  'drain-over': 'Hold the scope',
  'scope-unused': 'Hold the scope',
}

/** Where a finding is looked at, if it has no mend of one step. */
function placeOf(f: Finding): string | null {
  const scope = f.scope ? encodeURIComponent(f.scope) : ''
  if (f.code.startsWith('pool-') || f.code === 'oversized-pool') return '/capacity/' + scope
  if (f.code.startsWith('pair-')) return '/pair'
  const places: Record<string, string> = {
    'clients-unserved': '/unserved',
    'options-old': '/leases/stale?scope=' + scope,
    'hostname-twice': '/leases?scope=' + scope,
    'many-addresses': '/leases?search=' + encodeURIComponent(tail(f).replace('address ', '')),
    'other-server': '/unserved/listening',
    'trial-failed': '/plan/~trials',
    host: '/plan/~trials',
    'relay-silent': '/plan/~links',
    'link-mixed': '/plan/~links',
    'lease-outside': '/leases',
    'reservation-contested': '/plan/' + scope,
  }
  return places[f.code] ?? (scope ? '/plan/' + scope : null)
}

/** The mend of a finding, in one step where there is one. */
export function Mend({ of: f }: { of: Finding }) {
  const [wish, setWish] = useState<Edit[] | null>(null)
  const { message, modal } = App.useApp()
  const queries = useQueryClient()
  const sweep = useMutation({
    mutationFn: (confirm: boolean) =>
      call<Swept>('POST', '/sweep', {}, { kind: 'abandoned', addresses: [tail(f)], confirm }),
    onSuccess: (s) => {
      if (!s.applied) {
        modal.confirm({
          title: 'Clear ' + tail(f),
          content: s.kept[0] ?? s.text,
          okText: 'Clear it',
          onOk: () => sweep.mutateAsync(true),
        })
        return
      }
      message.info(s.kept[0] ?? s.text)
      queries.invalidateQueries()
    },
    onError: (e) => message.error(e.message),
  })
  const edits = editsFor(f)
  const place = placeOf(f)
  return (
    <>
      {edits && (
        <Button size="small" onClick={() => setWish(edits)}>
          {verbs[f.code]}
        </Button>
      )}
      {f.code === 'abandoned' && (
        <Button size="small" loading={sweep.isPending} onClick={() => sweep.mutate(false)}>
          Clear it
        </Button>
      )}
      {!edits && f.code !== 'abandoned' && place && <Link to={place}>Look</Link>}
      <Confirm title={f.title} wish={wish} onClose={() => setWish(null)} />
    </>
  )
}

/** Says of findings that they are known and may stay, until a date. */
export function Acknowledge({ of: list, onClose }: { of: Finding[]; onClose: () => void }) {
  const [reason, setReason] = useState('')
  const [until, setUntil] = useState<Dayjs | null>(dayjs().add(30, 'day'))
  const queries = useQueryClient()
  const say = useMutation({
    mutationFn: (back: boolean) =>
      call(
        'POST',
        '/audit/acknowledge',
        {},
        {
          keys: list.map((f) => f.key),
          until: back ? undefined : until?.endOf('day').toISOString(),
          reason: back ? undefined : reason,
        },
      ),
    onSuccess: () => {
      queries.invalidateQueries({ queryKey: ['audit'] })
      onClose()
    },
  })
  const known = list.length === 1 ? list[0].known : undefined
  return (
    <Modal
      open={list.length > 0}
      onCancel={onClose}
      title={list.length === 1 ? list[0].title : `${list.length} findings`}
      destroyOnHidden
      footer={[
        known && (
          <Button key="back" onClick={() => say.mutate(true)}>
            Take it back
          </Button>
        ),
        <Button
          key="ok"
          type="primary"
          disabled={!reason.trim() || !until}
          loading={say.isPending}
          onClick={() => say.mutate(false)}
        >
          Acknowledge it
        </Button>,
      ]}
    >
      {list.slice(0, 4).map((f) => (
        <p key={f.key} style={{ marginTop: 0 }}>
          {f.text}.
        </p>
      ))}
      {known && (
        <p className="quiet">
          Known to {known.by} until {known.until.slice(0, 10)}: {known.reason}
        </p>
      )}
      <label htmlFor="why">Why it may stay</label>
      <Input.TextArea id="why" value={reason} onChange={(e) => setReason(e.target.value)} autoSize={{ minRows: 2 }} />
      <div style={{ marginTop: 8 }}>
        until{' '}
        <DatePicker
          value={until}
          onChange={(v) => setUntil(v)}
          minDate={dayjs().add(1, 'day')}
          maxDate={dayjs().add(1, 'year')}
        />
      </div>
      <Failure error={say.error} />
    </Modal>
  )
}
