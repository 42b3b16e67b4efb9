import { Card } from 'react-bootstrap'
import { Link } from 'react-router'
import { useWallClock } from '../api/live'
import type { Operation } from '../api/types'
import { authorName, utc } from '../words'
import { Phases } from './Phases'
import { Shape } from './State'
import { Steps } from './Steps'

export const kindText = (kind: string) => kind.replace('-', ' ')

export function OutcomeWord({ operation: o }: { operation: Operation }) {
  if (o.waits)
    return (
      <>
        <Shape condition="degraded" /> waits for approval
      </>
    )
  if (!o.outcome)
    return (
      <>
        <Shape condition="recovering" /> under way
      </>
    )
  if (o.outcome.result === 'done')
    return (
      <>
        <Shape condition="healthy" /> done
      </>
    )
  return (
    <>
      <Shape condition="degraded" /> {o.outcome.result}: {o.outcome.why}
    </>
  )
}

/** One operation as it goes: what, why, and its steps. */
export function OperationCard({ operation: o }: { operation: Operation }) {
  const wall = useWallClock()
  const first = o.steps[0]
  return (
    <Card id="operation" data-operation={o.id}>
      <Card.Header>
        <Link to={`/operations/${o.id}`}>op-{o.id}</Link> {kindText(o.what.kind)} of {o.what.workload}
        <span className="ms-3 fw-normal">
          <OutcomeWord operation={o} />
        </span>
      </Card.Header>
      <Card.Body className="stack" style={{ gap: 8 }}>
        <div className="small quiet">
          {first && `${utc(wall(first.at))} UTC, `}
          {o.what.why}, by {authorName(o.what.by)}
          {o.target && `; to ${o.target}`}
        </div>
        <Phases phases={o.phases} />
        <Steps operation={o} />
      </Card.Body>
    </Card>
  )
}
