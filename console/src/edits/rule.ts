import type { Edit, Rule } from '../api/client'
import { optionEdit, optionLines } from './text'

/** One condition that was chosen. */
export interface Part {
  what?: string
  value?: string
}
/** A rule as its form has it: chosen conditions, or an expression. */
export interface Fields {
  name?: string
  /** A scope, a supernet behind its mark, or nothing for the defaults. */
  of?: string
  how?: 'form' | 'cel'
  parts?: Part[]
  any?: boolean
  when?: string
  action?: string
  pool?: string
  lease?: string
  options?: string
  order?: number
  off?: boolean
  note?: string
}

/** Stands before the name of a supernet that a rule is of. */
export const inSupernet = 'supernet '

const quoted = (v: string) => JSON.stringify(v)

/** Conditions for those who do not write expressions. */
export const kinds: Record<string, { label: string; hint: string; cel: (v: string) => string }> = {
  prefix: {
    label: 'hardware address begins with',
    hint: '02:4c:00',
    cel: (v) => `hw.startsWith(${quoted(v.toLowerCase().replace(/[-.]/g, ':'))})`,
  },
  vendor: { label: 'vendor class begins with', hint: 'deskphone', cel: (v) => `vendor.startsWith(${quoted(v)})` },
  user: { label: 'user class is', hint: 'staff', cel: (v) => `${quoted(v)} in userClass` },
  host: { label: 'host name begins with', hint: 'loom-', cel: (v) => `hostname.startsWith(${quoted(v)})` },
  wants: { label: 'asks for option', hint: '150', cel: (v) => `${Number(v) || 0} in wants` },
  list: { label: 'is in list', hint: 'lent-out', cel: (v) => `hw in lists[${quoted(v)}] || id in lists[${quoted(v)}]` },
  circuit: { label: 'circuit is', hint: 'sw1/0/7', cel: (v) => `circuit == ${quoted(v)}` },
  relay: { label: 'comes through relay', hint: '10.40.8.1', cel: (v) => `relay == ${quoted(v)}` },
  arch: { label: 'machine architecture (93) is', hint: '7', cel: (v) => `options[?93].orValue("") == ${quoted(v)}` },
}

/** The condition that the form says, in CEL. */
export const whenOf = (v: Fields) =>
  v.how === 'cel'
    ? (v.when ?? '')
    : (v.parts ?? [])
        .filter((p) => p?.what && p.value)
        .map((p) => '(' + kinds[p.what!].cel(p.value!) + ')')
        .join(v.any ? ' || ' : ' && ')
        .replace(/^\(([^()]*(\([^()]*\))?[^()]*)\)$/, '$1')

/** What the form of a rule begins with. */
export const fieldsOf = (old?: Rule): Fields =>
  old
    ? {
        name: old.name,
        of: old.supernet ? inSupernet + old.supernet : old.scope,
        how: 'cel',
        when: old.when,
        action: old.action,
        pool: old.pool,
        lease: old.lease,
        options: optionLines(old.options),
        order: old.order,
        off: old.off,
        note: old.note,
      }
    : { how: 'form', parts: [{ what: 'prefix' }], action: '' }

/** The edit that makes the plan say what the form says. */
export function editOf(v: Fields, old?: Rule): Edit | null {
  const when = whenOf(v)
  if (!v.name || !when) return null
  return {
    op: old ? 'edit' : 'add',
    kind: 'rule',
    name: old?.name ?? v.name,
    rule: {
      name: old ? v.name : undefined,
      when,
      scope: v.of?.startsWith(inSupernet) ? '' : (v.of ?? ''),
      supernet: v.of?.startsWith(inSupernet) ? v.of.slice(inSupernet.length) : '',
      action: v.action ?? '',
      pool: v.pool ?? '',
      lease: v.lease ?? '',
      options: optionEdit(v.options, old?.options ?? []),
      order: v.order || undefined,
      off: v.off ?? false,
      note: v.note ?? '',
    },
  }
}
