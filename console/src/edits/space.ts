import type { Stretch } from '../api/client'

/** One cell of the picture of a supernet: what of it is what, from 0 to 1. */
export interface Cell {
  prefix: string
  scope: number
  supernet: number
  names: string[]
}

const number = (address: string) => address.split('.').reduce((n, part) => n * 256 + Number(part), 0)
const address = (n: number) => [24, 16, 8, 0].map((s) => Math.floor(n / 2 ** s) % 256).join('.')

const span = (prefix: string) => {
  const [at, bits] = prefix.split('/')
  return { from: number(at), size: 2 ** (32 - Number(bits)), bits: Number(bits) }
}

/** A supernet cut into as many cells of one size as it has, 256 at most. */
export function cellsOf(prefix: string, parts: Stretch[]): Cell[] {
  const whole = span(prefix)
  const bits = Math.min(32, whole.bits + 8)
  const size = 2 ** (32 - bits)
  const cells: Cell[] = Array.from({ length: whole.size / size }, (_, i) => ({
    prefix: address(whole.from + i * size) + '/' + bits,
    scope: 0,
    supernet: 0,
    names: [],
  }))
  for (const p of parts) {
    if (p.what === 'free') continue
    const at = span(p.prefix)
    const first = Math.floor((at.from - whole.from) / size)
    const last = Math.floor((at.from + at.size - 1 - whole.from) / size)
    for (let i = first; i <= last; i++) {
      cells[i][p.what] += Math.min(at.size, size) / size
      cells[i].names.push(p.name!)
    }
  }
  return cells
}
