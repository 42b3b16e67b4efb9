import { Card, Table } from 'react-bootstrap'
import { Link } from 'react-router'
import { useStatus } from '../api/live'
import { brokenLinks, duties, NodeState, votesText } from '../parts/Zones'
import { Heads } from '../parts/Facts'

export function NodesPage() {
  const status = useStatus()
  const links = brokenLinks(status.nodes)
  return (
    <Card>
      <Card.Header as="h1">Nodes</Card.Header>
      <Card.Body className="table-responsive pt-1">
        <p className="small">{links.length === 0 ? 'All visible links are OK.' : links.join('; ')}</p>
        <Table size="sm" className="mb-0" id="nodes">
          <Heads names={['Node', 'Zone', 'State', 'Votes', 'Power', 'Has', 'Karst', 'Fullest volume']} />
          <tbody>
            {status.nodes.map((n) => {
              const fullest = [...(n.about?.rooms ?? [])].sort((a, b) => a.free / a.total - b.free / b.total)[0]
              return (
                <tr key={n.node}>
                  <td>
                    <Link to={`/nodes/${n.node}`}>{n.node}</Link>
                  </td>
                  <td>{n.zone}</td>
                  <td className="text-nowrap">
                    <NodeState node={n} />
                  </td>
                  <td>
                    {votesText(n)}
                    {n.node === status.coordinator && ', coordinator'}
                  </td>
                  <td>{n.power ? n.power.state.replace('-', ' ') : 'no device'}</td>
                  <td>{duties(n.node, status).join(', ')}</td>
                  <td>{n.about?.version ?? 'not heard'}</td>
                  <td>{fullest ? `${Math.round((1 - fullest.free / fullest.total) * 100)} % (${fullest.of})` : ''}</td>
                </tr>
              )
            })}
          </tbody>
        </Table>
      </Card.Body>
    </Card>
  )
}
