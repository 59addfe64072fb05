import type { KeyboardEvent } from 'react'

/** What a row of a table does that opens something: by a click, and by Enter once it has the focus. */
export function opens(open: () => void) {
  return {
    tabIndex: 0,
    onClick: open,
    onKeyDown: (e: KeyboardEvent) => {
      if (e.key === 'Enter' && e.target === e.currentTarget) open()
    },
  }
}

/** The mark in a column's head that opens what can be chosen from, by Enter too. */
export function Chooser({ by }: { by: string }) {
  return (
    <span
      className="chooser"
      role="button"
      tabIndex={0}
      aria-label={'Choose by ' + by}
      onKeyDown={(e) => {
        if (e.key !== 'Enter') return
        e.stopPropagation()
        e.currentTarget.parentElement?.click()
      }}
    >
      ▾
    </span>
  )
}
