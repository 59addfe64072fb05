import type { Decoded } from '../api/client'
import { Folding } from './bits'

/** A message in words, field by field, with its octets. */
export function Message({ title, of }: { title: string; of: Decoded | null | undefined }) {
  if (!of)
    return (
      <div className="message">
        <h3>{title}</h3>
        <span className="quiet">none: silence</span>
      </div>
    )
  return (
    <div className="message">
      <h3>
        {title}: {of.type} <span className="quiet">{of.size} octets</span>
      </h3>
      <dl className="facts">
        {of.fields.map((f) => (
          <span key={f.name} style={{ display: 'contents' }}>
            <dt>{f.name}</dt>
            <dd>
              <Folding text={f.value} />
            </dd>
          </span>
        ))}
        {of.options.map((o, i) => (
          <span key={i} style={{ display: 'contents' }}>
            <dt>
              {o.code} {o.name}
            </dt>
            <dd>
              <Folding text={o.value} />
            </dd>
          </span>
        ))}
      </dl>
    </div>
  )
}
