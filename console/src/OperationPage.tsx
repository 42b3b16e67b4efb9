import { Col, ListGroup, Row } from 'react-bootstrap'
import { authorName, type Operation, type Status } from './api'
import { OperationCard } from './OperationCard'

const total = (o: Operation) => o.phases.reduce((sum, p) => sum + p.ms, 0)

/** All operations that the coordinator remembers, and one of them whole. */
export function OperationPage({ status, id }: { status: Status; id: string }) {
  const chosen = status.operations.find((o) => String(o.id) === id) ?? status.operations[0]
  if (!chosen) return <p>Nothing has been done yet.</p>
  return (
    <Row className="g-3">
      <Col md={4}>
        <ListGroup id="operations">
          {status.operations.map((o) => (
            <ListGroup.Item key={o.id} action href={`#/operation/${o.id}`} active={o.id === chosen.id}>
              op-{o.id} {o.what.kind} {o.what.from && `${o.what.from} → `}
              {o.target ?? ''}
              <div className="small">
                {o.waits ? '▲ waits for approval' : !o.outcome ? '◐ under way' : `${o.outcome.result}, ${total(o).toFixed(0)} ms`}
              </div>
            </ListGroup.Item>
          ))}
        </ListGroup>
      </Col>
      <Col md={8}>
        <OperationCard operation={chosen} />
        <p className="mt-2 small text-body-secondary">
          {chosen.what.by === 'cluster' ? 'started automatically' : `asked for by ${authorName(chosen.what.by)}`}: {chosen.what.why}
          <br />
          <code>karst operation show op-{chosen.id}</code> · <a href={`#/history/${chosen.id}`}>its events with their evidence</a>
        </p>
      </Col>
    </Row>
  )
}
