/** A row of numbers as a small line under its height. */
export function Trend({ list, size, label }: { list: number[]; size: number; label: string }) {
  if (list.every((n) => n < 0)) return <span className="quiet">no history yet</span>
  const top = Math.max(size, ...list, 1)
  const x = (i: number) => (i / Math.max(list.length - 1, 1)) * 118 + 1
  const y = (n: number) => 21 - (n / top) * 20
  let path = ''
  let pen = 'M'
  list.forEach((n, i) => {
    if (n < 0) pen = 'M'
    else {
      path += `${pen}${x(i).toFixed(1)} ${y(n).toFixed(1)} `
      pen = 'L'
    }
  })
  return (
    <svg width="120" height="22" role="img" aria-label={label} style={{ display: 'block' }}>
      <line x1="0" x2="120" y1={y(size)} y2={y(size)} stroke="var(--bad)" strokeWidth="1" strokeDasharray="4 2" />
      <path d={path} fill="none" stroke="var(--indigo)" strokeWidth="1.6" />
    </svg>
  )
}
