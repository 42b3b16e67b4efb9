import { Alert, Card, Col, Row, Table } from 'react-bootstrap'
import type { Status, Workload } from './api'
import { OperationCard } from './OperationCard'
import { useLive } from './useLive'
import { bytes, ConditionBadge } from './words'

export function Now() {
  const { reply, stale } = useLive()
  if (!reply) return <p>Waiting for the cluster ...</p>
  const { status } = reply
  const at = new Date(reply.at)
  const newest = status.operations[0]
  return (
    <main style={{ opacity: stale ? 0.45 : 1 }}>
      {stale && (
        <Alert variant="danger" id="stale">
          ■ Not live: this node has not been heard since {at.toLocaleTimeString()}. Everything below is old.
        </Alert>
      )}
      <header className="d-flex align-items-baseline gap-3 mb-1">
        <h1 className="h4 mb-0">{status.cluster}</h1>
        <ConditionBadge condition={status.condition} />
        <span className="text-body-secondary ms-auto small">
          seen by {status.seen_by} at {at.toISOString().slice(11, 19)} UTC ({at.toLocaleTimeString()} local)
        </span>
      </header>
      <p className="fs-5" id="sentence">
        {status.sentence}
      </p>
      {!reply.complete && <Alert variant="warning">▲ Partial: no coordinator answered; this is what {status.seen_by} knows by itself.</Alert>}
      {!reply.history.reachable && <Alert variant="warning">▲ History delayed: {reply.history.waiting} events wait on {status.seen_by}.</Alert>}
      <Row className="g-3">
        <Col md={5}>
          <Quorum status={status} />
        </Col>
        <Col md={7}>{newest && <OperationCard operation={newest} />}</Col>
        {status.workloads.map((w) => (
          <Col md={12} key={w.workload}>
            <WorkloadCard workload={w} />
          </Col>
        ))}
        <Col md={12}>
          <Findings status={status} />
        </Col>
      </Row>
    </main>
  )
}

function Quorum({ status }: { status: Status }) {
  const { quorum } = status
  const majority = quorum.heard >= quorum.needed
  const zones = [...new Set(status.nodes.map((n) => n.zone))]
  return (
    <Card>
      <Card.Header>
        Quorum: {quorum.heard} of {quorum.total} votes heard, {quorum.needed} needed{' '}
        <strong>
          {!majority
            ? '■ no majority: nothing is promoted'
            : quorum.cannot_lose.length === 0
              ? '● any one node may be lost'
              : `▲ not without ${quorum.cannot_lose.join(', ')}`}
        </strong>
      </Card.Header>
      <Table size="sm" className="mb-0">
        <tbody>
          {zones.map((zone) =>
            status.nodes
              .filter((n) => n.zone === zone)
              .map((n, i) => (
                <tr key={n.node}>
                  <td className="text-body-secondary">{i === 0 ? zone : ''}</td>
                  <td>
                    {n.node}
                    {n.node === status.coordinator && ' (coordinator)'}
                  </td>
                  <td>{n.votes > 0 ? `${n.votes} vote${n.witness ? ', witness' : ''}` : 'no vote'}</td>
                  <td>
                    {n.state === 'up' ? '● up' : `■ ${n.state} for ${(n.silent_ms / 1000).toFixed(1)} s`}
                    {n.does_not_hear.length > 0 && ` ▲ does not hear ${n.does_not_hear.join(', ')}`}
                  </td>
                </tr>
              )),
          )}
        </tbody>
      </Table>
    </Card>
  )
}

function WorkloadCard({ workload: w }: { workload: Workload }) {
  return (
    <Card data-workload={w.workload}>
      <Card.Header className="d-flex gap-2">
        <strong>{w.workload}</strong> <ConditionBadge condition={w.condition} /> <span>epoch {w.epoch}</span>
        {w.next && <span className="ms-auto">Next: {w.next}</span>}
      </Card.Header>
      <Table size="sm" className="mb-0">
        <thead>
          <tr>
            <th>Replica</th>
            <th>Is</th>
            <th>Every write</th>
            <th>Behind</th>
            <th>Detail</th>
            <th>If the primary is lost</th>
          </tr>
        </thead>
        <tbody>
          {w.replicas.map((r) => {
            const candidate = w.candidates.find((c) => c.node === r.node)
            return (
              <tr key={r.node} className={r.node === w.primary ? 'fw-bold' : undefined}>
                <td>{r.node}</td>
                <td>{r.state}</td>
                <td>{r.node === w.primary ? '' : r.in_sync_set ? '● yes' : '▲ no'}</td>
                <td>{r.lag === null ? 'unknown' : bytes(r.lag)}</td>
                <td>{r.detail}</td>
                <td>{candidate ? (candidate.excluded ? `may not: ${candidate.excluded}` : 'may take over') : ''}</td>
              </tr>
            )
          })}
        </tbody>
      </Table>
      <Card.Footer className="small">
        {w.gates.map((g) => (
          <span key={g.node} className="me-4">
            gate {g.node} <code>{g.address}</code> {g.forwards_to ? `→ ${g.forwards_to}` : '◐ holds new connections'}
            {g.report && `, ${g.report.flows} flows, ${g.report.waiting} waiting`}
          </span>
        ))}
      </Card.Footer>
    </Card>
  )
}

function Findings({ status }: { status: Status }) {
  if (status.findings.length === 0) return null
  return (
    <details>
      <summary>{status.findings.length} findings</summary>
      {status.findings.map((f) => (
        <p key={f.path.join('.') + f.what} className="mb-1 mt-2 small">
          {f.severity === 'error' ? '■' : '▲'} <code>{f.path.join('.')}</code> {f.what}. <em>{f.remedy}.</em>
        </p>
      ))}
    </details>
  )
}
