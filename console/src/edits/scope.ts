import type { Edit, Scope } from '../api/client'
import { lines } from './text'

/** A scope as its form has it. */
export interface Fields {
  name?: string
  subnet?: string
  pools?: string
  prefixPools?: string
  valid?: string
  exclusions?: string
  router?: string
  dns?: string
  domain?: string
  lease?: string
  link?: string
  serving?: boolean
  note?: string
  warnUsed?: number | null
  warnHeadroom?: number | null
  warnDays?: number | null
  identity?: string
  bootp?: 'ignore' | 'reserved' | 'dynamic'
  rapidCommit?: boolean
  offerDelay?: string
  probe?: boolean
  authoritative?: boolean
  perCircuit?: number | null
  newPerMinute?: number | null
}

const optionOf = (s: Scope | undefined, code: number) => s?.options.find((o) => o.code === code)?.value ?? ''

/** Whether a subnet is of IPv6. */
export const isSix = (subnet?: string) => !!subnet?.includes(':')

/** The edit that makes the plan say what the form says. */
export function editOf(v: Fields, old?: Scope): Edit | null {
  if (!v.name || !v.subnet) return null
  const exclusion = (line: string) => {
    const [range, ...user] = line.split(',')
    return { range: range.trim(), user: user.join(',').trim() || undefined }
  }
  const wanted = lines(v.exclusions)
  const had = old?.exclusions.map((x) => [x.range, x.user].filter(Boolean).join(', ')) ?? []
  const options: Record<string, string> = {}
  const six = isSix(v.subnet)
  const asked: [name: string, code: number, value?: string][] = six
    ? [
        ['v6/dns-servers', 23, v.dns],
        ['v6/domain-list', 24, v.domain],
      ]
    : [
        ['router', 3, v.router],
        ['domain-server', 6, v.dns],
        ['domain-name', 15, v.domain],
      ]
  for (const [name, code, value] of asked) {
    const text = (value ?? '').trim().replace(/\s*[,\s]\s*/g, ',')
    if (text !== optionOf(old, code)) options[name] = text
  }
  return {
    op: old ? 'edit' : 'add',
    kind: 'scope',
    name: old?.name ?? v.name,
    scope: {
      name: old ? v.name : undefined,
      subnet: v.subnet,
      pools: lines(v.pools),
      prefixPools: six ? lines(v.prefixPools) : undefined,
      valid: six ? (v.valid?.trim() ?? '') : undefined,
      addExclusions: wanted.filter((w) => !had.includes(w)).map(exclusion),
      removeExclusions: had.filter((h) => !wanted.includes(h)).map((h) => h.split(',')[0]),
      options,
      lease: v.lease?.trim() ?? '',
      link: v.link && v.link !== old?.link ? v.link : undefined,
      identity: six ? undefined : ((v.identity ?? '') as '' | 'identifier' | 'hardware'),
      bootp: six ? undefined : v.bootp,
      rapidCommit: v.rapidCommit,
      offerDelay: v.offerDelay ?? '',
      probe: v.probe,
      authoritative: six ? undefined : v.authoritative,
      perCircuit: v.perCircuit ?? 0,
      newPerMinute: v.newPerMinute ?? 0,
      warnUsed: v.warnUsed ?? 0,
      warnHeadroom: v.warnHeadroom ?? 0,
      warnDays: v.warnDays ?? 0,
      mode: old ? undefined : v.serving ? 'serving' : 'held',
      note: v.note ?? '',
    },
  }
}

/** What the form of a scope begins with. */
export const fieldsOf = (s: Scope): Fields => ({
  name: s.name,
  subnet: s.subnet,
  pools: s.pools.join('\n'),
  prefixPools: s.prefixPools.join('\n'),
  valid: s.validSet,
  exclusions: s.exclusions.map((x) => [x.range, x.user].filter(Boolean).join(', ')).join('\n'),
  router: s.family === 6 ? '' : optionOf(s, 3),
  dns: optionOf(s, s.family === 6 ? 23 : 6),
  domain: optionOf(s, s.family === 6 ? 24 : 15),
  lease: s.leaseSet,
  link: s.link,
  note: s.note,
  warnUsed: s.thresholds.used || null,
  warnHeadroom: s.thresholds.headroom || null,
  warnDays: s.thresholds.days || null,
  identity: s.identitySet ?? '',
  bootp: s.bootp,
  rapidCommit: s.rapidCommit,
  offerDelay: s.offerDelay,
  probe: s.probe,
  authoritative: s.authoritative,
  perCircuit: s.perCircuit || null,
  newPerMinute: s.newPerMinute || null,
})
