import { App, Button, Drawer, Form } from 'antd'
import { revisionOf, type Edit } from '../api/client'
import { useChange } from './preview'
import { outcome } from './gathering'
import { touched } from '../edits/touched'
import { useOpened } from './opened'
import { withOwn, type Own } from '../edits/own'
import { OwnFields } from './own'

interface Props<F> {
  open: boolean
  title: string
  initial: F
  toEdit: (v: F) => Edit | null
  fields: (v: F) => React.ReactNode
  aside?: (v: F) => React.ReactNode
  hint: string
  /** The item as it was read, to say against which revision it is changed. */
  of?: object & { fields?: Record<string, string> }
  /** The kind of item, if it has fields of one's own. */
  kind?: Edit['kind']
  onClose: () => void
}

/** A form over one item of the plan; what it does is shown before it is kept. */
export function ItemForm<F extends object>({
  open,
  title,
  initial: given,
  toEdit,
  fields,
  aside,
  hint,
  of,
  kind,
  onClose,
}: Props<F>) {
  const initial = useOpened(open, { ...given, own: of?.fields } as F & Own)
  const base = revisionOf(useOpened(open, of))
  const { message } = App.useApp()
  const [form] = Form.useForm<F & Own>()
  const values = (Form.useWatch([], form) ?? initial) as F & Own
  const edit = open ? touched(withOwn(toEdit(values), values), withOwn(toEdit(initial), initial)) : null
  const c = useChange(
    edit && [edit],
    (done) => {
      message.success(outcome(done))
      onClose()
    },
    base,
  )
  return (
    <Drawer
      open={open}
      onClose={onClose}
      size={960}
      destroyOnHidden
      title={title}
      extra={
        <Button type="primary" onClick={c.apply} loading={c.busy} danger={c.danger} disabled={!c.ready}>
          Apply
        </Button>
      }
    >
      <div className="grid" style={{ gridTemplateColumns: 'minmax(0, 1fr) minmax(0, 1fr)', columnGap: 22 }}>
        <Form form={form} layout="vertical" initialValues={initial} requiredMark={false} preserve={false}>
          {fields(values)}
          {kind && <OwnFields kind={kind} />}
        </Form>
        <div className="effect">
          {aside?.(values)}
          <h2>What this does</h2>
          {!edit && <p className="quiet">{hint}</p>}
          {c.view}
        </div>
      </div>
    </Drawer>
  )
}
