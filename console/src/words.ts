import type { Author, Condition, Writes } from './api/types'

// How quantities are written: as the command line has them.

/** A MiB has 1,048,576 bytes (IEC 80000-13). */
export function bytes(n: number) {
  if (n < 2 ** 10) return `${Math.round(n)} B`
  if (n < 2 ** 20) return `${(n / 2 ** 10).toFixed(1)} KiB`
  return n < 2 ** 30 ? `${(n / 2 ** 20).toFixed(1)} MiB` : `${(n / 2 ** 30).toFixed(1)} GiB`
}

/** A length of time in the two units that matter. */
export function span(ms: number) {
  const s = Math.floor(ms / 1000)
  const two = (large: number, unit: string, small: number, rest: string) => (small ? `${large} ${unit} ${small} ${rest}` : `${large} ${unit}`)
  if (s < 1) return `${Math.round(ms)} ms`
  if (s < 10) return `${(ms / 1000).toFixed(1)} s`
  if (s < 60) return `${s} s`
  if (s < 3600) return two(Math.floor(s / 60), 'min', s % 60, 's')
  if (s < 86400) return two(Math.floor(s / 3600), 'h', Math.floor((s % 3600) / 60), 'min')
  return two(Math.floor(s / 86400), 'd', Math.floor((s % 86400) / 3600), 'h')
}

/** Date and time, UTC; with milliseconds where they matter. */
export function utc(at: string | number, exact = false) {
  const date = new Date(at)
  return Number.isNaN(date.getTime()) ? 'unknown' : date.toISOString().replace('T', ' ').slice(0, exact ? 23 : 19)
}

/** The same in the reader's own zone. */
export const local = (at: string | number) => new Date(at).toLocaleString()

export const authorName = (author: Author) =>
  author === 'cluster' ? author : author.person.name + (author.person.through ? ` through ${author.person.through}` : '')

/** Whom a rule of the spec leaves the most to do first. */
const WORST: Condition[] = ['down', 'unknown', 'recovering', 'degraded', 'healthy']
export const worstFirst = (a: { condition: Condition }, b: { condition: Condition }) => WORST.indexOf(a.condition) - WORST.indexOf(b.condition)

export const NORMAL: Record<Condition, string> = {
  healthy: 'everything that the spec asks for is there',
  recovering: 'on its way: nothing has to be done',
  degraded: 'works with less protection than asked for',
  unknown: 'whoever knew is not heard',
  down: 'no writes until a person acts',
}

export const since = (ms: number | null | undefined) => (ms == null ? '' : ` for ${span(ms)}`)

export const WRITES_MEAN: Record<Writes['state'], string> = {
  accepted: 'clients write',
  paused: 'they come back by themselves',
  stopped: 'not until somebody acts',
  unknown: 'whoever knew is not heard',
}
