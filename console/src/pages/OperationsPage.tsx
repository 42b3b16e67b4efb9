import { Card, Table } from 'react-bootstrap'
import { Link } from 'react-router'
import { useStatus } from '../api/live'
import { Heads } from '../parts/Facts'
import { Intents } from '../parts/Intents'
import { OperationRows } from '../parts/OperationRows'
import { authorName, utc } from '../words'

export function OperationsPage() {
  const { operations } = useStatus()
  return (
    <div className="stack">
      <Intents />
      <Card>
        <Card.Header as="h1">Operations, newest first</Card.Header>
        <Card.Body className="table-responsive pt-1">
          <OperationRows operations={operations} />
          <p className="small quiet mt-3 mb-0">
            The newest {operations.length}. <Link to="/history">The history</Link> has all of them.
          </p>
        </Card.Body>
      </Card>
      <Over />
    </div>
  )
}

/** What somebody wanted of the cluster as a whole, and is over. */
function Over() {
  const { intents_over } = useStatus()
  if (intents_over.length === 0) return null
  return (
    <Card>
      <Card.Header as="h2">Changes and maintenance that are over</Card.Header>
      <Card.Body className="pt-1 table-responsive">
        <Table size="sm" className="mb-0">
          <Heads names={['', 'UTC', 'What', 'By', 'Why', 'Came to']} />
          <tbody>
            {intents_over.map((over) => (
              <tr key={over.id}>
                <td>
                  <Link to={`/operations/${over.id}`}>op-{over.id}</Link>
                </td>
                <td className="text-nowrap">{utc(over.at * 1000)}</td>
                <td>{over.title}</td>
                <td>{authorName(over.by)}</td>
                <td>{over.why}</td>
                <td>{over.outcome.result === 'done' ? 'done' : over.outcome.why}</td>
              </tr>
            ))}
          </tbody>
        </Table>
      </Card.Body>
    </Card>
  )
}
