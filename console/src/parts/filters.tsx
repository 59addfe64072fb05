import { Input } from 'antd'
import { useSearchParams } from 'react-router'

/** What a page is filtered by stands in its address: this sets one part of it, or takes it out. */
export function usePut() {
  const [, setParams] = useSearchParams()
  return (key: string, v?: string) =>
    setParams(
      (p) => {
        if (v) p.set(key, v)
        else p.delete(key)
        return p
      },
      { replace: true },
    )
}

/** A field that searches once it was typed into and left by Enter. */
export function Search(of: {
  value: string
  hint: string
  width?: number
  autoFocus?: boolean
  onSearch: (v: string) => void
}) {
  return (
    <Input.Search
      key={of.value}
      allowClear
      autoFocus={of.autoFocus}
      placeholder={of.hint}
      defaultValue={of.value}
      onSearch={of.onSearch}
      style={{ width: of.width ?? 220 }}
    />
  )
}
