import { NavLink } from 'react-router'

const groups = {
  plan: [
    ['/plan', 'Scopes'],
    ['/plan/~tree', 'Supernets'],
    ['/plan/~rules', 'Rules and lists'],
    ['/plan/~codebooks', 'Codebooks'],
    ['/plan/~links', 'Links'],
    ['/plan/~fields', 'Fields'],
    ['/plan/~trials', 'Trials and host'],
    ['/plan/~files', 'Plan file and sheets'],
  ],
  leases: [
    ['/leases', 'Lease table'],
    ['/leases/history', 'History'],
    ['/leases/stale', 'Old options'],
  ],
  capacity: [
    ['/capacity', 'Scopes and pools'],
    ['/capacity/~all', 'All together'],
    ['/capacity/~sizing', 'Sizing and subnets'],
  ],
  audit: [
    ['/audit', 'Findings'],
    ['/audit/gone', 'Gone'],
    ['/audit/compared', 'Compared'],
    ['/audit/reports', 'Reports'],
    ['/audit/sweep', 'Sweep'],
    ['/audit/alerts', 'Alerts'],
  ],
  changes: [
    ['/changes', 'Of the plan'],
    ['/changes/prepared', 'In preparation'],
    ['/changes/trail', 'All that was done'],
  ],
  unserved: [
    ['/unserved', 'Clients'],
    ['/unserved/conversations', 'Conversations'],
    ['/unserved/explain', 'Explain'],
    ['/unserved/wishes', 'Wishes'],
    ['/unserved/listening', 'Listening'],
  ],
} as const

/** The pages that answer one question. */
export function SubNav({ of }: { of: keyof typeof groups }) {
  return (
    <nav className="subnav" aria-label={of}>
      {groups[of].map(([to, label]) => (
        <NavLink key={to} to={to} end>
          {label}
        </NavLink>
      ))}
    </nav>
  )
}
