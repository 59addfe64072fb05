import type { Scope, Supernet, Usage } from '../api/client'

/** A row of the plan as a tree: a supernet with what lies in it, or a scope. */
export interface Row {
  key: string
  name: string
  prefix: string
  usage: Usage
  supernet?: Supernet
  scope?: Scope
  children?: Row[]
}

/**
 * The plan as a tree. Supernets come each before what lies in it, and say what they lie in; scopes
 * say that, too. A supernet in which something fits a search is there, though it does not fit.
 */
export function treeOf(supernets: Supernet[], scopes: Scope[], search: string): Row[] {
  const part = search.trim().toLowerCase()
  const fits = (text: string) => text.toLowerCase().includes(part)
  const top: Row[] = []
  const rows = new Map<string, Row>()
  const into = (around: string[], row: Row) => (rows.get(around[around.length - 1] ?? '')?.children ?? top).push(row)
  for (const n of supernets) {
    const row: Row = {
      key: 'supernet ' + n.name,
      name: n.name,
      prefix: n.prefix,
      usage: n.usage,
      supernet: n,
      children: [],
    }
    into(n.in, row)
    rows.set(n.name, row)
  }
  for (const s of scopes) {
    if (fits([s.name, s.subnet, s.link, s.note].join('\n')))
      into(s.supernets, { key: 'scope ' + s.name, name: s.name, prefix: s.subnet, usage: s.usage, scope: s })
  }
  const kept = (list: Row[]): Row[] =>
    list
      .map((r) => (r.children ? { ...r, children: kept(r.children) } : r))
      .filter((r) => !r.supernet || r.children!.length > 0 || fits([r.name, r.prefix, r.supernet.note].join('\n')))
      .map((r) => (r.children?.length === 0 ? { ...r, children: undefined } : r))
      .sort((a, b) => address(a.prefix) - address(b.prefix))
  return kept(top)
}

const address = (prefix: string) =>
  prefix
    .split('/')[0]
    .split('.')
    .reduce((n, part) => n * 256 + Number(part), 0)
