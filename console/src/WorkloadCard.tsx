import { Card, Table } from 'react-bootstrap'
import { authorName, type Workload } from './api'
import { bytes, ConditionBadge, WritesWord } from './words'

/** A workload on one card: its replicas, who may take over, where clients get in. */
export function WorkloadCard({ workload: w }: { workload: Workload }) {
  return (
    <Card data-workload={w.workload}>
      <Card.Header className="d-flex flex-wrap gap-2">
        <a href={`#/workload/${w.workload}`}>
          <strong>{w.workload}</strong>
        </a>
        <ConditionBadge condition={w.condition} /> <WritesWord writes={w.writes} /> <span>epoch {w.epoch}</span>
        {w.mode !== 'act' && (
          <strong>
            ▲ mode {w.mode}
            {w.mode_set && `, set by ${authorName(w.mode_set.by)} at ${new Date(w.mode_set.at * 1000).toLocaleString()}`}
            {w.mode_set?.why && `: ${w.mode_set.why}`}
          </strong>
        )}
        {w.next && <span className="ms-auto">Next: {w.next}</span>}
      </Card.Header>
      <Table size="sm" className="mb-0">
        <thead>
          <tr>
            <th>Replica</th>
            <th>Role</th>
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
                <td>{r.lag == null ? 'unknown' : bytes(r.lag)}</td>
                <td>{r.detail}</td>
                <td>{candidate ? (candidate.excluded ? `may not: ${candidate.excluded}` : 'may take over') : ''}</td>
              </tr>
            )
          })}
        </tbody>
      </Table>
      <Card.Footer className="small">
        {w.address && (
          <span className="me-4 d-inline-block">
            address <code>{w.address.on.join(', ')}</code>{' '}
            {w.address.held ? `on ${w.address.holder}, ${w.address.connections} connections` : w.address.holder ? `◐ goes to ${w.address.holder}` : '■ nowhere'}
            {w.address.remark && ` ▲ ${w.address.remark}`}
          </span>
        )}
        {w.gates.map((g) => (
          <span key={g.node} className="me-4 d-inline-block">
            gate {g.node} <code>{g.address}</code>{' '}
            {g.seen
              ? `${g.forwards_to ? `→ ${g.forwards_to}` : '◐ holds new connections'}, ${g.seen.connections} connections, ${g.seen.waiting} waiting`
              : '○ not heard'}
          </span>
        ))}
      </Card.Footer>
    </Card>
  )
}
