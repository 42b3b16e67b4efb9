import { Card } from 'react-bootstrap'
import type { Operation } from './api'

function verdict(o: Operation): string {
  if (o.waits) return `▲ waits for approval: karst operation approve op-${o.id}`
  if (!o.outcome) return '◐ under way'
  if (o.outcome.result === 'done') return '● done'
  return `▲ ${o.outcome.result}: ${o.outcome.why ?? ''}`
}

/** The newest operation: its steps as they happen, then where the time went. */
export function OperationCard({ operation: o }: { operation: Operation }) {
  const begin = o.steps[0]?.at ?? 0
  const longest = Math.max(1e-6, ...o.phases.map((p) => p.ms))
  return (
    <Card id="operation" data-operation={o.id} data-done={o.outcome ? 'yes' : 'no'}>
      <Card.Header>
        <strong>op-{o.id}</strong> {o.what.kind} of {o.what.workload}
        {o.what.from && ` from ${o.what.from}`}
        {o.target && ` to ${o.target}`} <span>{verdict(o)}</span>
      </Card.Header>
      <Card.Body className="py-2 small">
        <ol className="list-unstyled mb-2" id="steps">
          {o.steps.map((s, i) => (
            <li key={i} data-kind={s.kind}>
              <code>{((s.at - begin) / 1e6).toFixed(0).padStart(5, '\u00a0')} ms</code> {s.text}
            </li>
          ))}
        </ol>
        {o.phases.map(({ phase, ms }) => (
          <div key={phase} className="d-flex align-items-center gap-2">
            <span style={{ width: '6rem' }}>{phase.replace('-', ' ')}</span>
            <span style={{ width: '5rem', textAlign: 'right' }}>{ms.toFixed(1)} ms</span>
            <span style={{ background: 'var(--bs-primary)', height: '0.6rem', width: `${(ms / longest) * 45}%` }} />
          </div>
        ))}
      </Card.Body>
    </Card>
  )
}
