import { useQuery } from '@tanstack/react-query'
import { Tooltip } from 'antd'
import { Link } from 'react-router'
import { get, type Space } from '../api/client'
import { cellsOf } from '../edits/space'
import { Failure, plural } from './bits'

/** What a supernet is made of, and where space is left, as a picture. */
export function SpaceMap({ supernet }: { supernet: string }) {
  const space = useQuery({
    queryKey: ['supernets', 'space', supernet],
    queryFn: () => get<Space>('/supernets/' + encodeURIComponent(supernet) + '/space'),
  })
  if (!space.data) return <Failure error={space.error} />
  const cells = cellsOf(space.data.prefix, space.data.parts)
  const bits = cells[0].prefix.split('/')[1]
  const parts = space.data.parts.filter((p) => p.what === 'free')
  return (
    <section className="space">
      <h2>Where space is left</h2>
      <p className="quiet">
        {plural(space.data.free, 'address', 'addresses')} in {plural(parts.length, 'gap')} are free. Each square is a /
        {bits}, by address from left to right; choose a free one to put a scope there.
      </p>
      <div className="squares" role="img" aria-label={`${space.data.free} addresses of ${space.data.prefix} are free`}>
        {cells.map((c) => {
          const free = c.scope + c.supernet === 0
          const square = (
            <i
              className={free ? 'free' : c.supernet > 0 ? 'supernet' : 'scope'}
              style={free ? undefined : { opacity: 0.35 + 0.65 * Math.min(1, c.scope + c.supernet) }}
            />
          )
          const words = free ? 'free' : c.names.slice(0, 6).join(', ') + (c.names.length > 6 ? ' …' : '')
          return (
            <Tooltip key={c.prefix} title={c.prefix + ': ' + words} mouseEnterDelay={0.1}>
              {free ? (
                <Link to={'/plan?add=1&subnet=' + encodeURIComponent(c.prefix)} aria-label={'add ' + c.prefix}>
                  {square}
                </Link>
              ) : (
                <span>{square}</span>
              )}
            </Tooltip>
          )
        })}
      </div>
      <p className="quiet legend">
        <i className="scope" /> scopes <i className="supernet" /> supernets <i className="free" /> free; pale: a part of
        it
      </p>
    </section>
  )
}
