import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { call, type File, type LeasesBrought } from '../api/client'
import { Failure, plural } from './bits'

const leftShown = 100

/**
 * A sheet of leases that another server gave: what would become of them, and what takes them into the
 * table. It is ready once what is shown is what would be taken.
 */
export function useBringing(
  text: string | null,
  onDone: (done: LeasesBrought) => void,
  onLine: (line: number) => void,
) {
  const queries = useQueryClient()
  const [settled, setSettled] = useState(text)
  useEffect(() => {
    const t = setTimeout(() => setSettled(text), 400)
    return () => clearTimeout(t)
  }, [text])
  const send = (dryRun: boolean) =>
    call<LeasesBrought>('POST', '/leases/sheet', { dryRun }, { text: settled!, type: 'text/csv' } satisfies File)
  const wanted = settled !== null && settled.trim() !== ''
  const preview = useQuery({
    queryKey: ['bring', settled],
    queryFn: () => send(true),
    enabled: wanted,
    retry: false,
    gcTime: 0,
  })
  const make = useMutation({
    mutationFn: () => send(false),
    onSuccess: (done) => {
      queries.invalidateQueries()
      onDone(done)
    },
  })
  const shown = wanted && !preview.isError ? preview.data : undefined
  return {
    apply: () => make.mutate(),
    busy: make.isPending,
    danger: false,
    changes: (shown?.taken ?? 0) > 0,
    ready: settled === text && shown !== undefined,
    view: (
      <>
        <Failure error={make.error ?? (wanted ? preview.error : undefined)} onLine={onLine} />
        {shown && (
          <>
            <p>{shown.text}.</p>
            <ul className="diff">
              {shown.left.slice(0, leftShown).map((l) => (
                <li key={l}>{l}</li>
              ))}
            </ul>
            {shown.left.length > leftShown && (
              <p className="quiet">and {plural(shown.left.length - leftShown, 'line')} more</p>
            )}
          </>
        )}
      </>
    ),
  }
}
