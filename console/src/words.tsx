import type { Condition, Writes } from './api'

// No colour without a shape and a word.
export const SHAPES: Record<Condition, string> = { healthy: '●', recovering: '◐', degraded: '▲', unknown: '○', down: '■' }

const NORMAL: Record<Condition, string> = {
  healthy: 'everything that the spec asks for is there',
  recovering: 'on its way: nothing has to be done',
  degraded: 'works with less protection than asked for',
  unknown: 'whoever knew is not heard',
  down: 'no writes until a person acts',
}

export function ConditionBadge({ condition }: { condition: Condition }) {
  return (
    <span className={`state state-${condition}`} title={NORMAL[condition]}>
      {SHAPES[condition]} {condition}
    </span>
  )
}

const WRITES: Record<Writes['state'], string> = { accepted: '●', paused: '◐', stopped: '■', unknown: '○' }

/** Whether clients' writes are taken, and for how long that has been so. */
export function WritesWord({ writes }: { writes: Writes }) {
  const time = writes.for_ms == null ? '' : ` for ${span(writes.for_ms)}`
  return (
    <span data-writes-state={writes.state}>
      writes {WRITES[writes.state]} <strong>{writes.state}</strong>
      {time}
    </span>
  )
}

/** A kB is 1,000 bytes (IEC 80000-13). */
export function bytes(n: number) {
  if (n < 1e3) return `${n} B`
  if (n < 1e6) return `${(n / 1e3).toFixed(1)} kB`
  return n < 1e9 ? `${(n / 1e6).toFixed(1)} MB` : `${(n / 1e9).toFixed(1)} GB`
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
