import type { Stretch } from '../api/client'

/** One cell of the picture of a supernet: what of it is what, from 0 to 1. */
export interface Cell {
  prefix: string
  scope: number
  supernet: number
  names: string[]
}

/** An address as a number, and how many bits it has. */
const number = (text: string): [value: bigint, bits: number] => {
  if (!text.includes(':')) return [text.split('.').reduce((n, part) => n * 256n + BigInt(part), 0n), 32]
  const [head, tail] = text.split('::').map((half) => half.split(':').filter(Boolean))
  const gap = Array(8 - head.length - (tail?.length ?? 0)).fill('0')
  return [[...head, ...gap, ...(tail ?? [])].reduce((n, part) => n * 65536n + BigInt('0x' + part), 0n), 128]
}

const address = (n: bigint, bits: number) => {
  if (bits === 32) return [24n, 16n, 8n, 0n].map((s) => (n >> s) % 256n).join('.')
  const groups = Array.from({ length: 8 }, (_, i) => ((n >> BigInt(112 - 16 * i)) % 65536n).toString(16))
  return groups.join(':').replace(/(:0)+$/, '::')
}

const span = (prefix: string) => {
  const [at, length] = prefix.split('/')
  const [from, all] = number(at)
  return { from, bits: Number(length), all }
}

/** A supernet cut into as many cells of one size as it has, 256 at most. */
export function cellsOf(prefix: string, parts: Stretch[]): Cell[] {
  const whole = span(prefix)
  const bits = Math.min(whole.all, whole.bits + 8)
  const size = 1n << BigInt(whole.all - bits)
  const cells: Cell[] = Array.from({ length: 2 ** (bits - whole.bits) }, (_, i) => ({
    prefix: address(whole.from + BigInt(i) * size, whole.all) + '/' + bits,
    scope: 0,
    supernet: 0,
    names: [],
  }))
  for (const p of parts) {
    if (p.what === 'free') continue
    const at = span(p.prefix)
    const first = Number((at.from - whole.from) / size)
    const last = first + Math.max(2 ** (bits - at.bits), 1) - 1
    for (let i = first; i <= last; i++) {
      cells[i][p.what] += Math.min(2 ** (bits - at.bits), 1)
      cells[i].names.push(p.name!)
    }
  }
  return cells
}
