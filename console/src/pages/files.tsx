import { App, Button, Checkbox, Input, Select, Upload } from 'antd'
import { useRef, useState } from 'react'
import { useSearchParams } from 'react-router'
import { textOf, type File } from '../api/client'
import { Failure } from '../parts/bits'
import { usePut } from '../parts/filters'
import { useBringing } from '../parts/bringing'
import { useChange } from '../parts/preview'
import { outcome } from '../parts/gathering'
import { SubNav } from '../parts/subnav'

const kinds = [
  { value: 'plan', label: 'Plan file (YAML)' },
  { value: 'scope', label: 'Sheet of scopes (CSV)' },
  { value: 'reservation', label: 'Sheet of reservations (CSV)' },
  { value: 'exclusion', label: 'Sheet of exclusions (CSV)' },
  { value: 'entry', label: 'Sheet of list entries (CSV)' },
  { value: 'lease', label: 'Sheet of leases (CSV)' },
]

const begun = 'plan-file: 1\ncovers: part\n\nscopes:\n'

/** The plan as text: taken out, written or dropped here, and applied once it does what it should. */
export default function Files() {
  const [params] = useSearchParams()
  const set = usePut()
  const kind = params.get('kind') ?? 'plan'
  const whole = kind === 'plan'
  const leases = kind === 'lease'
  const path = whole ? '/plan/file' : leases ? '/leases/sheet' : '/plan/sheets/' + kind
  const [text, setText] = useState('')
  const [overwrite, setOverwrite] = useState(false)
  const [error, setError] = useState<unknown>()
  const { message } = App.useApp()
  const area = useRef<HTMLDivElement>(null)
  const file: File = { text, type: whole ? 'application/yaml' : 'text/csv' }
  const toLine = (line: number) => {
    const box = area.current?.querySelector('textarea')
    if (!box) return
    const lines = text.split('\n')
    const start = lines.slice(0, line - 1).reduce((n, l) => n + l.length + 1, 0)
    box.focus()
    box.setSelectionRange(start, start + (lines[line - 1]?.length ?? 0))
    box.scrollTop = Math.max(0, (line - 5) * 20)
  }
  const bringing = useBringing(leases ? text : null, (done) => message.success(done.text + '.'), toLine)
  const change = useChange(
    leases || text.trim() === '' ? null : { file, path, overwrite },
    (done) => {
      message.success(outcome(done))
      setText((t) => t.replace(/^(revision:[ \t]*)[0-9]+/m, `$1${done.revision}`))
    },
    undefined,
    toLine,
  )
  const c = leases ? bringing : change
  const take = async (from: string) => {
    try {
      setText(await textOf(from))
      setError(undefined)
    } catch (e) {
      setError(e)
    }
  }
  const save = () => {
    const link = document.createElement('a')
    link.href = URL.createObjectURL(new Blob([text], { type: file.type }))
    link.download = whole ? 'plan.yaml' : kind + 's.csv'
    link.click()
    URL.revokeObjectURL(link.href)
  }
  return (
    <>
      <div className="head">
        <div>
          <h1>Plan</h1>
          <span className="quiet">
            {whole
              ? 'The plan as text, to keep under version control and to change many things at once'
              : leases
                ? 'What another server promised: it is taken into the table, so that clients keep their addresses'
                : 'A row each; an empty cell sets nothing, a column that is not there changes nothing'}
          </span>
        </div>
        <Select
          aria-label="Kind of file"
          value={kind}
          options={kinds}
          style={{ width: 230 }}
          onChange={(v) => {
            setText('')
            set('kind', v === 'plan' ? '' : v)
          }}
        />
        <Button type="primary" onClick={c.apply} loading={c.busy} danger={c.danger} disabled={!c.ready || !c.changes}>
          Apply
        </Button>
      </div>
      <SubNav of="plan" />
      <Failure error={error} />
      <div className="grid files">
        <div ref={area}>
          <div className="tools">
            <Button size="small" onClick={() => take(path)}>
              Take {whole ? 'the plan' : 'all of them'} as {whole ? 'it is' : 'they are'}
            </Button>
            {whole ? (
              <Button size="small" onClick={() => setText(begun)}>
                Begin a part
              </Button>
            ) : (
              <Button size="small" onClick={() => take(path + '?template=true')}>
                Template
              </Button>
            )}
            <Upload
              showUploadList={false}
              accept={whole ? '.yaml,.yml' : '.csv,.tsv,.txt'}
              beforeUpload={(f) => {
                void f.arrayBuffer().then((b) => setText(decode(new Uint8Array(b))))
                return false
              }}
            >
              <Button size="small">Choose a file</Button>
            </Upload>
            <Button size="small" disabled={text === ''} onClick={save}>
              Save to a file
            </Button>
          </div>
          <Input.TextArea
            className="mono"
            aria-label="Text of the file"
            spellCheck={false}
            wrap="off"
            rows={26}
            value={text}
            placeholder="Paste or drop a file here, or take the plan as it is"
            onChange={(e) => setText(e.target.value)}
            onDrop={(e) => {
              const dropped = e.dataTransfer.files[0]
              if (!dropped) return
              e.preventDefault()
              void dropped.arrayBuffer().then((b) => setText(decode(new Uint8Array(b))))
            }}
          />
        </div>
        <div className="effect">
          <h2>What this does</h2>
          {text.trim() === '' && (
            <p className="quiet">
              What a file would change is shown here before it is applied: line by line, with whom it touches. Every
              fault is shown with its place, and nothing is changed as long as there is one.
            </p>
          )}
          {whole && /^revision:/m.test(text) && (
            <p>
              <Checkbox checked={overwrite} onChange={(e) => setOverwrite(e.target.checked)}>
                Overwrite what was changed since the file’s revision
              </Checkbox>
            </p>
          )}
          {c.view}
        </div>
      </div>
    </>
  )
}

/** A file as text, in whatever encoding a spreadsheet wrote it. */
function decode(octets: Uint8Array): string {
  const wide =
    octets[0] === 0xff && octets[1] === 0xfe
      ? 'utf-16le'
      : octets[0] === 0xfe && octets[1] === 0xff
        ? 'utf-16be'
        : 'utf-8'
  return new TextDecoder(wide).decode(octets)
}
