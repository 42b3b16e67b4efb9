import { Card } from 'react-bootstrap'
import { Link } from 'react-router'
import { useStatus } from '../api/live'
import { OperationRows } from '../parts/OperationRows'

export function OperationsPage() {
  const { operations } = useStatus()
  return (
    <Card>
      <Card.Header as="h1">Operations, newest first</Card.Header>
      <Card.Body className="table-responsive pt-1">
        <OperationRows operations={operations} />
        <p className="small quiet mt-3 mb-0">
          The newest {operations.length}. <Link to="/history">The history</Link> has all of them.
        </p>
      </Card.Body>
    </Card>
  )
}
