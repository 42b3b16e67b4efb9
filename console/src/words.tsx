import { Badge } from 'react-bootstrap'
import type { Condition } from './api'

// No colour without a shape and a word.
const LOOK: Record<Condition, { bg: string; shape: string; normal: string }> = {
  healthy: { bg: 'success', shape: '●', normal: 'normal' },
  settling: { bg: 'info', shape: '◐', normal: 'on its way: nothing has to be done' },
  weakened: { bg: 'warning', shape: '▲', normal: 'works with less protection than asked for' },
  down: { bg: 'danger', shape: '■', normal: 'does not come back by itself as it is' },
}

export function ConditionBadge({ condition }: { condition: Condition }) {
  const look = LOOK[condition]
  return (
    <Badge bg={look.bg} text={look.bg === 'warning' || look.bg === 'info' ? 'dark' : undefined} title={look.normal}>
      {look.shape} {condition}
    </Badge>
  )
}

export const bytes = (n: number) => (n < 1024 ? `${n} B` : n < 1048576 ? `${(n / 1024).toFixed(1)} kB` : `${(n / 1048576).toFixed(1)} MB`)
