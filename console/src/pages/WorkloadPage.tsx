import { useState } from 'react'
import { Card, Form, Table } from 'react-bootstrap'
import { Link, useParams } from 'react-router'
import { useStatus } from '../api/live'
import { useEndpoints } from '../api/queries'
import type { Replica, Workload } from '../api/types'
import { WorkloadMenu } from '../act/Menus'
import { Copy } from '../parts/Copy'
import { LagChart } from '../parts/LagChart'
import { OperationRows } from '../parts/OperationRows'
import { Readers } from '../parts/Readers'
import { Runbook } from '../parts/Runbook'
import { SafetyPoint } from '../parts/SafetyPoint'
import { ConditionBadge, Shape, WritesWord } from '../parts/State'
import { WayOfWrite } from '../parts/WayOfWrite'
import { Written } from '../parts/Written'
import { authorName, bytes, span, utc } from '../words'
import { Facts, Heads } from '../parts/Facts'

export function WorkloadPage() {
  const { name = '' } = useParams()
  const { workloads, operations } = useStatus()
  const w = workloads.find((w) => w.workload === name)
  if (!w) return <p>There is no workload `{name}`; there are: {workloads.map((w) => w.workload).join(', ')}.</p>
  return (
    <div className="stack" data-workload={w.workload}>
      <div className="d-flex flex-wrap gap-3 align-items-center">
        <h1>{w.workload}</h1>
        <ConditionBadge condition={w.condition} />
        <span className="say">{w.sentence}</span>
        <WorkloadMenu workload={w} />
      </div>
      <Card>
        <Card.Body className="stack">
          <WayOfWrite workload={w} />
          <Written workload={w.workload} />
        </Card.Body>
      </Card>
      {w.safety_point && <SafetyPoint workload={w.workload} point={w.safety_point} />}
      <Replicas workload={w} />
      <div className="two">
        <Candidates workload={w} />
        <Settings workload={w} />
      </div>
      {w.reads && <Readers reads={w.reads} primary={w.primary} />}
      <Endpoints workload={w.workload} />
      <Card>
        <Card.Header as="h2">Its last operations</Card.Header>
        <Card.Body className="table-responsive pt-1">
          <OperationRows operations={operations.filter((o) => o.what.workload === name).slice(0, 8)} />
        </Card.Body>
      </Card>
    </div>
  )
}

function Replicas({ workload: w }: { workload: Workload }) {
  const primary = w.replicas.find((r) => r.node === w.primary)?.server
  const head = primary?.position?.number
  const behind = (n: number | null | undefined) => (n == null || head == null ? 'not known' : n >= head ? 'all' : `all but ${bytes(head - n)}`)
  const row = (r: Replica) => {
    const seen = primary?.standbys.find((s) => s.node === r.node)
    return (
      <tr key={r.node}>
        <td>
          <Link to={`/nodes/${r.node}`}>{r.node}</Link>
        </td>
        <td>
          {r.state}
          <div className="small quiet">{r.detail}</div>
        </td>
        <td>{r.in_sync_set ? 'yes' : r.node === w.primary ? 'is primary' : 'no'}</td>
        <td>
          <code>{r.server?.place ?? 'not known'}</code>
        </td>
        <td className="text-nowrap">
          {behind(seen?.sent ?? r.server?.received)}
        </td>
        <td className="text-nowrap">
          {behind(seen?.replayed ?? r.server?.replayed)}
        </td>
        <td className="text-nowrap">{seen?.delay_ms != null ? span(seen.delay_ms) : r.node === w.primary ? '' : 'nothing written'}</td>
        <td>{r.rank}</td>
      </tr>
    )
  }
  return (
    <Card>
      <Card.Header as="h2">Replicas</Card.Header>
      <Card.Body className="table-responsive pt-1 stack">
        <Table size="sm" className="mb-0" id="positions">
          <Heads names={['Node', 'State', 'Every write', 'Position', 'Sent to it', 'Replayed there', 'Replays within', 'Rank']} />
          <tbody>{w.replicas.map(row)}</tbody>
        </Table>
        <LagChart workload={w} />
      </Card.Body>
    </Card>
  )
}

function Candidates({ workload: w }: { workload: Workload }) {
  return (
    <Card>
      <Card.Header as="h2">Who may take over</Card.Header>
      <Card.Body className="stack" style={{ gap: 8 }} id="candidates">
        {w.candidates.length === 0 && 'Nobody: there is no other replica.'}
        {w.candidates.map((c) => (
          <div key={c.node}>
            <Shape condition={c.excluded == null ? 'healthy' : 'degraded'} /> <strong>{c.node}</strong>{' '}
            {c.excluded == null ? 'may take over' : `may not: ${c.excluded}. `}
            {c.exclusion && <Runbook name={c.exclusion} />}
          </div>
        ))}
      </Card.Body>
    </Card>
  )
}

function Settings({ workload: w }: { workload: Workload }) {
  const rows: [string, string][] = [
    ['program', w.settings.driver],
    ['a failover may lose', w.settings.loss === 0 ? 'nothing that was acknowledged' : `up to ${bytes(w.settings.loss)} of log`],
    ['a primary alone', w.settings.alone === 'block' ? 'holds its writes' : 'writes on, unprotected'],
    ['a dead primary', w.settings.restart ? 'is started again where it died first' : 'is replaced at once'],
    ['mode', w.mode + (w.mode_set && w.mode !== 'act' ? `, set by ${authorName(w.mode_set.by)} at ${utc(w.mode_set.at * 1000)} UTC` : '')],
    ['primary', w.primary == null ? 'nobody' : `${w.primary}, epoch ${w.epoch}`],
    ['its standbys', w.sync.sentence],
    ['its lease', w.lease_left_ms == null ? 'not known here' : `${span(w.lease_left_ms)} left when this was said`],
  ]
  return (
    <Card>
      <Card.Header as="h2">What the spec says, and since when</Card.Header>
      <Card.Body>
        <Facts rows={[['writes', <WritesWord key="writes" writes={w.writes} />], ...rows]} />
      </Card.Body>
    </Card>
  )
}

const CLIENTS: Record<string, string> = { psql: 'psql', jdbc: 'Java (JDBC)', python: 'Python (psycopg)', go: 'Go (pgx)', dotnet: '.NET (Npgsql)', address: 'address' }

function Endpoints({ workload }: { workload: string }) {
  const list = useEndpoints(workload).data ?? []
  const clients = [...new Set(list.map((e) => e.client))]
  const [chosen, choose] = useState('')
  const client = chosen || (clients[0] ?? '')
  return (
    <Card id="endpoints">
      <Card.Header className="d-flex gap-3 align-items-center">
        <h2>To paste</h2>
        <Form.Select size="sm" className="w-auto" aria-label="client" value={client} onChange={(e) => choose(e.target.value)}>
          {clients.map((name) => (
            <option key={name} value={name}>
              {CLIENTS[name] ?? name}
            </option>
          ))}
        </Form.Select>
        <span className="small quiet fw-normal">Put your own names for DATABASE and USER.</span>
      </Card.Header>
      <Card.Body className="table-responsive pt-1">
        <Table size="sm" className="mb-0 align-middle">
          <thead>
            <tr>
              <th scope="col">For</th>
              <th scope="col">String</th>
              <th scope="col">Leads to</th>
              <th scope="col">
                <span className="visually-hidden">copy</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {list
              .filter((e) => e.client === client)
              .map((e) => (
                <tr key={e.purpose + e.text}>
                  <td>{e.purpose}</td>
                  <td>
                    <code>{e.text}</code>
                  </td>
                  <td>{e.reaches.join(', ') || 'nobody, connections wait'}</td>
                  <td>
                    <Copy text={e.text} what={e.purpose} />
                  </td>
                </tr>
              ))}
          </tbody>
        </Table>
      </Card.Body>
    </Card>
  )
}
