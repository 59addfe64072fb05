import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { App, Button, Checkbox, Modal, Table } from 'antd'
import { useState } from 'react'
import { call, type ActedOn, type ActedOne } from '../api/client'
import { actedColumns } from '../columns/acting'
import type { Ask } from '../columns/scope'
import { removals, reservations, type Chosen } from '../edits/acting'
import { Failure, paged, plural } from './bits'
import { outcome } from './gathering'
import { Confirm } from './preview'

/** What can be done to clients, one or many. */
export type Act = 'reach' | 'wake' | 'nudge' | 'end'

const words: Record<Act, { title: (who: string) => string; go: string }> = {
  reach: { title: (who) => `Does ${who} answer?`, go: '' },
  wake: { title: (who) => `Wake ${who}?`, go: 'Wake' },
  nudge: { title: (who) => `Have ${who} renew at once?`, go: 'Nudge' },
  end: { title: (who) => `End the lease of ${who}?`, go: 'End' },
}

/** Says what an act would do to each client, does it on a click, and says what became of each. */
export function ActModal({
  act,
  addresses,
  onClose,
  onSilent,
}: {
  act: Act | null
  addresses: string[]
  onClose: () => void
  onSilent?: (addresses: string[]) => void
}) {
  const queries = useQueryClient()
  const [silent, setSilent] = useState(false)
  const order = { addresses, silent: (act === 'end' && silent) || undefined }
  const preview = useQuery({
    queryKey: ['act', act, addresses, order.silent],
    queryFn: () => call<ActedOn>('POST', '/clients/' + act, {}, { ...order, dryRun: act !== 'reach' }),
    enabled: act !== null,
    retry: false,
    staleTime: Infinity,
    gcTime: 0,
    refetchOnWindowFocus: false,
  })
  const apply = useMutation({
    mutationFn: () => call<ActedOn>('POST', '/clients/' + act, {}, order),
    onSuccess: () => {
      queries.invalidateQueries({ predicate: (q) => q.queryKey[0] !== 'act' })
    },
  })
  const close = () => {
    apply.reset()
    setSilent(false)
    onClose()
  }
  const shown = apply.data ?? preview.data
  const quiet = shown?.clients.filter((c) => c.outcome === 'silent').map((c) => c.address) ?? []
  const can = preview.data?.clients.some((c) => c.outcome !== 'refused') ?? false
  const who = addresses.length === 1 ? addresses[0] : plural(addresses.length, 'client')
  return (
    <Modal
      open={act !== null}
      title={act && words[act].title(who)}
      width={820}
      onCancel={close}
      footer={[
        act === 'reach' && onSilent && quiet.length > 0 && (
          <Button
            key="silent"
            onClick={() => {
              onSilent(quiet)
              close()
            }}
          >
            Choose the {plural(quiet.length, 'silent one')}
          </Button>
        ),
        <Button key="close" onClick={close}>
          {apply.data || act === 'reach' ? 'Close' : 'Leave it'}
        </Button>,
        act && act !== 'reach' && !apply.data && (
          <Button
            key="go"
            type="primary"
            danger={act === 'end'}
            disabled={!can || preview.isFetching}
            loading={apply.isPending}
            onClick={() => apply.mutate()}
          >
            {words[act].go}
          </Button>
        ),
      ]}
    >
      <Failure error={apply.error ?? preview.error} />
      {act === 'end' && !apply.data && (
        <Checkbox checked={silent} onChange={(e) => setSilent(e.target.checked)}>
          Only where nobody answers
        </Checkbox>
      )}
      <p className="quiet">{shown ? shown.text + '.' : 'Asking …'}</p>
      <Table<ActedOne>
        size="small"
        rowKey="address"
        dataSource={shown?.clients}
        loading={preview.isFetching}
        pagination={paged}
        columns={actedColumns}
        locale={{ emptyText: ' ' }}
      />
    </Modal>
  )
}

/** What can be done to the clients that are chosen in a list. */
export function Acting({ chosen, choose }: { chosen: Chosen[]; choose: (addresses: string[]) => void }) {
  const { message } = App.useApp()
  const [act, setAct] = useState<Act | null>(null)
  const [ask, setAsk] = useState<Ask>(null)
  if (chosen.length === 0 && !act && !ask) return null
  const keep = reservations(chosen)
  const remove = removals(chosen)
  const active = chosen.filter((c) => c.active)
  return (
    <div className="filters acting" role="toolbar" aria-label="What is done to the chosen clients">
      <b>{chosen.length.toLocaleString('en')} chosen</b>
      <Button onClick={() => setAct('reach')}>Reachable?</Button>
      <Button onClick={() => setAct('wake')}>Wake</Button>
      <Button disabled={active.length === 0} onClick={() => setAct('nudge')}>
        Nudge
      </Button>
      {remove.length === 0 && (
        <Button
          disabled={keep.length === 0}
          onClick={() => setAsk({ title: `Reserve ${plural(keep.length, 'address', 'addresses')}`, edits: keep })}
        >
          Reserve
        </Button>
      )}
      {remove.length > 0 ? (
        <Button
          danger
          onClick={() => setAsk({ title: `Remove ${plural(remove.length, 'reservation')}`, edits: remove })}
        >
          Remove
        </Button>
      ) : (
        <Button danger disabled={active.length === 0} onClick={() => setAct('end')}>
          End
        </Button>
      )}
      <Button type="link" onClick={() => choose([])}>
        Choose none
      </Button>
      <ActModal
        act={act}
        addresses={(act === 'nudge' || act === 'end' ? active : chosen).map((c) => c.address)}
        onClose={() => setAct(null)}
        onSilent={choose}
      />
      <Confirm
        title={ask?.title ?? ''}
        wish={ask?.edits ?? null}
        onClose={() => setAsk(null)}
        onDone={(done) => {
          message.success(outcome(done))
          choose([])
        }}
      />
    </div>
  )
}
