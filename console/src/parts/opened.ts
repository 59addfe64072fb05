import { useState } from 'react'

/** A value as it was when something was opened, however it changes meanwhile. */
export function useOpened<T>(open: boolean, value: T): T {
  const [kept, keep] = useState({ open, value })
  if (kept.open === open) return open ? kept.value : value
  keep({ open, value })
  return value
}
