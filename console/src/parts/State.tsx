import { CircleFill, CircleHalf, Diamond, SquareFill, TriangleFill } from 'react-bootstrap-icons'
import type { Condition, Writes } from '../api/types'
import { NORMAL, since, WRITES_MEAN } from '../words'

// No colour without a shape and a word.
const SHAPES = { healthy: CircleFill, recovering: CircleHalf, degraded: TriangleFill, unknown: Diamond, down: SquareFill }
/** The same shapes where there is only text: in the browser's tab. */
export const SIGNS: Record<Condition, string> = { healthy: '●', recovering: '◐', degraded: '▲', unknown: '◇', down: '■' }

export function Shape({ condition }: { condition: Condition }) {
  const Icon = SHAPES[condition]
  return <Icon aria-hidden size="0.8em" />
}

export function ConditionBadge({ condition }: { condition: Condition }) {
  return (
    <span className={`state state-${condition}`} title={NORMAL[condition]}>
      <Shape condition={condition} /> {condition}
    </span>
  )
}

const WRITES: Record<Writes['state'], Condition> = { accepted: 'healthy', paused: 'recovering', stopped: 'down', unknown: 'unknown' }

/** Whether clients' writes are taken, and for how long that has been so. */
export function WritesWord({ writes }: { writes: Writes }) {
  return (
    <span data-writes-state={writes.state} title={WRITES_MEAN[writes.state]}>
      <Shape condition={WRITES[writes.state]} /> {writes.state}
      {since(writes.for_ms)}
    </span>
  )
}
