import { Card, Table } from 'react-bootstrap'
import { Link } from 'react-router'
import { useStatus } from '../api/live'
import type { Workload } from '../api/types'
import { WorkloadMenu } from '../act/Menus'
import { Findings } from '../parts/Findings'
import { Intents } from '../parts/Intents'
import { Needs } from '../parts/Needs'
import { OperationCard } from '../parts/OperationCard'
import { ConditionBadge, WritesWord } from '../parts/State'
import { Votes } from '../parts/Votes'
import { WayOfWrite } from '../parts/WayOfWrite'
import { Written } from '../parts/Written'
import { Zones } from '../parts/Zones'
import { bytes, worstFirst } from '../words'
import { Heads } from '../parts/Facts'

/** So many workloads are drawn; more of them are a table. */
const DRAWN = 3

export function Now() {
  const status = useStatus()
  const [newest] = status.operations
  const workloads = [...status.workloads].sort(worstFirst)
  return (
    <div className="stack">
      {status.needs_you.length > 0 && (
        <div>
          <Needs />
        </div>
      )}
      <Intents />
      {newest && newest.outcome == null && <OperationCard operation={newest} />}
      {workloads.length <= DRAWN ? workloads.map((w) => <Drawn key={w.workload} workload={w} />) : <Many workloads={workloads} />}
      <div className="two">
        <div className="stack">
          <Card>
            <Card.Header as="h2">Nodes</Card.Header>
            <Card.Body className="stack" style={{ gap: 12 }}>
              <Votes />
              <Zones />
            </Card.Body>
          </Card>
          <Card>
            <Card.Header as="h2">Findings</Card.Header>
            <Card.Body>
              <Findings findings={status.findings} />
            </Card.Body>
          </Card>
        </div>
        {newest?.outcome != null && <OperationCard operation={newest} />}
      </div>
    </div>
  )
}

function Drawn({ workload: w }: { workload: Workload }) {
  return (
    <Card data-workload={w.workload}>
      <Card.Header className="d-flex flex-wrap gap-3 align-items-center">
        <h2>
          <Link to={`/workloads/${w.workload}`}>{w.workload}</Link>
        </h2>
        <ConditionBadge condition={w.condition} />
        <span className="fw-normal say">{w.sentence}</span>
        <WorkloadMenu workload={w} />
      </Card.Header>
      <Card.Body className="stack">
        <WayOfWrite workload={w} />
        <Written workload={w.workload} />
      </Card.Body>
    </Card>
  )
}

function Many({ workloads }: { workloads: Workload[] }) {
  const lag = (w: Workload) => Math.max(0, ...w.replicas.filter((r) => r.node !== w.primary).map((r) => r.lag ?? 0))
  return (
    <Card>
      <Card.Header as="h2">Workloads, worst first</Card.Header>
      <Card.Body className="pt-1 table-responsive">
        <Table size="sm" className="mb-0 align-middle" id="workloads">
          <Heads names={['Workload', 'State', 'Writes', 'Primary', 'Every write on', 'Furthest behind', 'Mode', 'What']} />
          <tbody>
            {workloads.map((w) => (
              <tr key={w.workload} data-workload={w.workload}>
                <td>
                  <Link to={`/workloads/${w.workload}`}>{w.workload}</Link>
                </td>
                <td>
                  <ConditionBadge condition={w.condition} />
                </td>
                <td className="text-nowrap">
                  <WritesWord writes={w.writes} />
                </td>
                <td>{w.primary ?? 'nobody'}</td>
                <td>{w.sync.sure.join(', ') || 'nobody'}</td>
                <td className="text-nowrap">{bytes(lag(w))}</td>
                <td>{w.mode}</td>
                <td className="small">{w.condition === 'healthy' ? '' : w.sentence}</td>
              </tr>
            ))}
          </tbody>
        </Table>
      </Card.Body>
    </Card>
  )
}
