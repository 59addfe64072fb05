import { useQuery } from '@tanstack/react-query'
import { Button } from 'antd'
import { useSyncExternalStore } from 'react'
import { Link } from 'react-router'
import { items, type ChangeResult, type Prepared } from '../api/client'

const key = 'gathering'
const listeners = new Set<() => void>()
const subscribe = (f: () => void) => {
  listeners.add(f)
  return () => listeners.delete(f)
}

/** Has changes that are made in this browser gathered in a change in preparation; '' ends that. */
export function gatherIn(name: string) {
  if (name) sessionStorage.setItem(key, name)
  else sessionStorage.removeItem(key)
  listeners.forEach((f) => f())
}

/** The change in preparation that changes are gathered in, or ''. */
export const useGathering = () => useSyncExternalStore(subscribe, () => sessionStorage.getItem(key) ?? '')

/** The changes in preparation. */
export const usePrepared = () =>
  useQuery({ queryKey: ['prepared'], queryFn: () => items<Prepared>('/plan/prepared'), refetchInterval: 15000 })

/** What became of a change, in words. */
export const outcome = (done: ChangeResult) =>
  done.into
    ? `Gathered in ${done.into}.`
    : done.applied
      ? `Revision ${done.revision} is in force.`
      : 'Nothing had to change.'

/** Says on every page that changes are gathered, and in what. */
export function Gathering() {
  const name = useGathering()
  const all = usePrepared()
  if (!name) return null
  const there = !all.data || all.data.some((p) => p.name === name)
  return (
    <div className="gathering" role="status">
      {there ? (
        <span>
          What you change is gathered in <Link to={'/changes/prepared?open=' + encodeURIComponent(name)}>{name}</Link>,
          and changes nothing yet.
        </span>
      ) : (
        <span>
          <b>{name}</b> is no longer in preparation: it was made, or dropped.
        </span>
      )}
      <Button size="small" onClick={() => gatherIn('')}>
        Gather no more
      </Button>
    </div>
  )
}
