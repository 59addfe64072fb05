import type { TableColumnsType } from 'antd'
import type { Revision } from '../api/client'
import { When, plural } from '../parts/bits'

/** What changed in a few words. */
export function summarise({ diff, items, lines }: Revision): string {
  if (diff.length === 0) return ''
  const d = diff.find((x) => x.kind !== 'link') ?? diff[0] // a link mostly comes along with its scope
  const whole = d.text === 'added' || d.text === 'removed'
  let text = `${d.kind} ${d.name}${whole ? ' ' : ': '}${d.text}`
  if (items > 1) text += `, and ${items - 1} more`
  else if (lines > 1 && !whole) text += `, and ${plural(lines - 1, 'more setting')}`
  return text
}

export const revisionColumns = (): TableColumnsType<Revision> => [
  { title: 'Revision', dataIndex: 'number', width: 90, align: 'right' },
  { title: 'When', width: 110, render: (_, r) => <When at={r.at} /> },
  { title: 'By', dataIndex: 'author', width: 120 },
  { title: 'What', render: (_, r) => summarise(r) },
  { title: 'Why', dataIndex: 'reason' },
  {
    title: '',
    align: 'right',
    width: 110,
    render: (_, r) => <span className="quiet">{plural(r.lines, 'line')}</span>,
  },
]
