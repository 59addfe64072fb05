import { App, Button, Drawer, Form } from 'antd'
import { revisionOf, type Edit } from '../api/client'
import { useChange } from './preview'
import { touched } from '../edits/touched'
import { useOpened } from './opened'

interface Props<F> {
  open: boolean
  title: string
  initial: F
  toEdit: (v: F) => Edit | null
  fields: (v: F) => React.ReactNode
  aside?: (v: F) => React.ReactNode
  hint: string
  /** The item as it was read, to say against which revision it is changed. */
  of?: object
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
  onClose,
}: Props<F>) {
  const initial = useOpened(open, given)
  const base = revisionOf(useOpened(open, of))
  const { message } = App.useApp()
  const [form] = Form.useForm<F>()
  const values = (Form.useWatch([], form) ?? initial) as F
  const edit = open ? touched(toEdit(values), toEdit(initial)) : null
  const c = useChange(
    edit && [edit],
    (done) => {
      message.success(done.applied ? `Revision ${done.revision} is in force.` : 'Nothing had to change.')
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
        </Form>
        <div>
          {aside?.(values)}
          <h2>What this does</h2>
          {!edit && <p className="quiet">{hint}</p>}
          {c.view}
        </div>
      </div>
    </Drawer>
  )
}
