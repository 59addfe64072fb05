import { Button, Checkbox, Popover, type TableColumnsType } from 'antd'
import { useState } from 'react'

/**
 * The columns of a table that its reader wants to see, and a button to choose
 * them with. The choice stays in this browser; columns that the reader was
 * never asked about are shown, but for those that are hidden at first.
 */
export function useColumns<T>(table: string, all: TableColumnsType<T>, hiddenAtFirst: string[] = []) {
  const key = 'hidden columns of ' + table
  const [hidden, setHidden] = useState<string[]>(() => {
    const kept = localStorage.getItem(key)
    return kept === null ? hiddenAtFirst : (JSON.parse(kept) as string[])
  })
  const titles = all.map((c) => c.title).filter((t): t is string => typeof t === 'string' && t !== '')
  const choose = (shown: string[]) => {
    const gone = hidden.filter((t) => !titles.includes(t)).concat(titles.filter((t) => !shown.includes(t)))
    localStorage.setItem(key, JSON.stringify(gone))
    setHidden(gone)
  }
  return {
    columns: all.filter((c) => !hidden.includes(c.title as string)),
    chooser: (
      <Popover
        trigger="click"
        placement="bottomRight"
        content={
          <Checkbox.Group
            className="stacked"
            value={titles.filter((t) => !hidden.includes(t))}
            onChange={choose}
            options={titles.map((t, i) => ({ label: t, value: t, disabled: i === 0 }))}
          />
        }
      >
        <Button>Columns</Button>
      </Popover>
    ),
  }
}
