import { Button } from 'antd'

/** The last column of a row that can be taken away, or unset: a link that does not open the row. */
export const removal = <T,>(act: (row: T) => void, word = 'Remove') => ({
  title: '',
  align: 'right' as const,
  render: (_: unknown, row: T) => (
    <Button
      size="small"
      type="link"
      danger={word === 'Remove'}
      onClick={(e) => {
        e.stopPropagation()
        act(row)
      }}
    >
      {word}
    </Button>
  ),
})
