import { Card, Table } from 'react-bootstrap'
import { Link } from 'react-router'
import { useStatus } from '../api/live'
import { useSpec } from '../api/queries'
import { Shape } from '../parts/State'
import { Votes } from '../parts/Votes'
import { NodeState, votesText } from '../parts/Zones'
import { span } from '../words'
import { Heads } from '../parts/Facts'

export function QuorumPage() {
  const status = useStatus()
  const voters = status.nodes.filter((n) => n.votes > 0)
  return (
    <div className="stack">
      <h1>Quorum</h1>
      <Card>
        <Card.Body className="stack">
          <Votes />
          <div>
            Coordinator: <strong>{status.coordinator ?? 'none is known here'}</strong>, term {status.term}. Nothing is promoted, fenced or moved unless votes of the
            majority agree.
          </div>
        </Card.Body>
      </Card>
      <div className="two">
        <Card>
          <Card.Header as="h2">Who votes</Card.Header>
          <Card.Body className="pt-1">
            <Table size="sm" className="mb-0" id="voters">
              <Heads names={['Node', 'Zone', 'Votes', 'State']} />
              <tbody>
                {voters.map((n) => (
                  <tr key={n.node}>
                    <td>
                      <Link to={`/nodes/${n.node}`}>{n.node}</Link>
                    </td>
                    <td>{n.zone}</td>
                    <td>{votesText(n)}</td>
                    <td>
                      <NodeState node={n} />
                    </td>
                  </tr>
                ))}
              </tbody>
            </Table>
          </Card.Body>
        </Card>
        <Card>
          <Card.Header as="h2">What would stop it</Card.Header>
          <Card.Body className="pt-1">
            <Table size="sm" className="mb-0">
              <Heads names={['If this is lost now', 'Votes left', 'Then']} />
              <tbody>
                {status.quorum.if_lost.map(({ what, left, holds }) => (
                  <tr key={what}>
                    <td>{what}</td>
                    <td>
                      {left} of {status.quorum.needed} needed
                    </td>
                    <td>
                      <Shape condition={holds ? 'healthy' : 'down'} /> {holds ? 'the majority stays' : 'nothing is promoted'}
                    </td>
                  </tr>
                ))}
              </tbody>
            </Table>
          </Card.Body>
        </Card>
      </div>
      <WorstCases />
    </div>
  )
}

function WorstCases() {
  const cases = useSpec().data?.worst_cases ?? []
  if (cases.length === 0) return null
  return (
    <Card>
      <Card.Header as="h2">For how long writes may pause at the most</Card.Header>
      <Card.Body className="pt-1 table-responsive">
        <Table size="sm" className="mb-0">
          <Heads names={['When', 'At most', 'Of which']} />
          <tbody>
            {cases.map((c) => (
              <tr key={c.kind}>
                <td>{c.case}</td>
                <td className="text-nowrap">{span(c.terms.reduce((sum, t) => sum + t.ms, 0))}</td>
                <td className="small">{c.terms.map((t) => `${t.what} ${span(t.ms)}`).join(' + ')}</td>
              </tr>
            ))}
          </tbody>
        </Table>
      </Card.Body>
    </Card>
  )
}
