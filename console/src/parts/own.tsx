import { useQuery } from '@tanstack/react-query'
import { Form, Input, InputNumber, Select, type TableColumnsType } from 'antd'
import { items, type Edit, type OwnField } from '../api/client'
import { Mono } from './bits'
import { Chooser } from './opens'

/** The fields of one's own that items of a kind can have. */
export function useOwn(kind: Edit['kind'] | undefined): OwnField[] {
  const all = useQuery({ queryKey: ['fields'], queryFn: () => items<OwnField>('/fields'), enabled: kind !== undefined })
  return (all.data ?? []).filter((f) => f.on.includes(kind!))
}

function OwnInput({ of, ...rest }: { of: OwnField; value?: string; onChange?: (v: unknown) => void }) {
  switch (of.type) {
    case 'number':
      return <InputNumber stringMode {...rest} />
    case 'choice':
      return <Select allowClear options={of.choices.map((value) => ({ value, label: value }))} {...rest} />
    case 'date':
      return <Input type="date" {...rest} />
    case 'address':
      return <Input className="mono" {...rest} />
    case 'link':
      return <Input placeholder="https://" {...rest} />
    default:
      return <Input {...rest} />
  }
}

/** Inputs for the fields of one's own that items of a kind can have, in the form's "own". */
export function OwnFields({ kind }: { kind: Edit['kind'] }) {
  return useOwn(kind).map((f) => (
    <Form.Item
      key={f.name}
      name={['own', f.name]}
      label={f.name}
      extra={f.note || undefined}
      normalize={(v) => v ?? null}
    >
      <OwnInput of={f} />
    </Form.Item>
  ))
}

/** The value of a field, as its type asks for. */
export function OwnValue({ of, value }: { of: OwnField | undefined; value: string }) {
  if (of?.type === 'link')
    return (
      <a href={value} target="_blank" rel="noreferrer" onClick={(e) => e.stopPropagation()}>
        {value.replace(/^https?:\/\//, '')}
      </a>
    )
  return of?.type === 'address' ? <Mono>{value}</Mono> : value
}

const filtersMost = 50 // different values of a field, to choose from

/** A column for each field of one's own that a row of a table has a value of. */
export function ownColumns<T extends { fields: Record<string, string> }>(
  fields: OwnField[],
  rows: T[],
): TableColumnsType<T> {
  return fields
    .filter((f) => rows.some((r) => r.fields[f.name]))
    .map((f) => {
      const values = [...new Set(rows.map((r) => r.fields[f.name]).filter(Boolean))].sort()
      return {
        title: f.name,
        align: f.type === 'number' ? 'right' : undefined,
        sorter: (a, b) =>
          (a.fields[f.name] ?? '').localeCompare(b.fields[f.name] ?? '', 'en', { numeric: f.type === 'number' }),
        filters: values.length <= filtersMost ? values.map((v) => ({ text: v, value: v })) : undefined,
        filterIcon: () => <Chooser by={f.name} />,
        onFilter: (v, r) => r.fields[f.name] === v,
        render: (_, r) => r.fields[f.name] && <OwnValue of={f} value={r.fields[f.name]} />,
      }
    })
}
