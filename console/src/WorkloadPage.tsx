import { useEffect, useState } from 'react'
import { Button, Card, Table } from 'react-bootstrap'
import { type Endpoint, read, type Status, type Workload } from './api'
import { bytes } from './words'
import { WorkloadCard } from './WorkloadCard'

/** A place in the write-ahead log as PostgreSQL writes it; not known is not zero. */
const place = (n: number | null) =>
  n === null ? 'unknown' : `${Math.floor(n / 2 ** 32).toString(16).toUpperCase()}/${(n >>> 0).toString(16).toUpperCase()}`

export function WorkloadPage({ status, name }: { status: Status; name: string }) {
  const w = status.workloads.find((one) => one.workload === name)
  if (!w) return <p>There is no workload {name}.</p>
  return (
    <div className="d-flex flex-column gap-3">
      <WorkloadCard workload={w} />
      <Positions workload={w} />
      <Endpoints workload={w} />
      <p className="small text-body-secondary">
        mode {w.mode}: <code>karst mode act|ask|watch {w.workload}</code> · plan a move: <code>karst switchover {w.workload} --plan</code>
      </p>
    </div>
  )
}

function Positions({ workload: w }: { workload: Workload }) {
  const primary = w.replicas.find((r) => r.node === w.primary)?.report?.seen
  return (
    <Card>
      <Card.Header>
        How far each is {primary && <>(primary at {place(primary.position)}, timeline {primary.timeline})</>}; bar: what is still to be replayed
      </Card.Header>
      <Table size="sm" className="mb-0" id="positions">
        <thead>
          <tr>
            <th>Standby</th>
            <th>Sent to it</th>
            <th>It received</th>
            <th>It replayed</th>
            <th>Behind</th>
          </tr>
        </thead>
        <tbody>
          {w.replicas
            .filter((r) => r.node !== w.primary)
            .map((r) => {
              const seen = r.report?.seen
              const sent = primary?.standbys.find((s) => s.node === r.node)
              const [head, replayed] = [primary?.position ?? null, seen?.replayed ?? null]
              const behind = head !== null && replayed !== null ? Math.max(0, head - replayed) : null
              return (
                <tr key={r.node}>
                  <td>{r.node}</td>
                  <td>{sent ? place(sent.sent) : 'not streaming'}</td>
                  <td>{seen?.runs ? place(seen.received) : ''}</td>
                  <td>{seen?.runs ? place(seen.replayed) : ''}</td>
                  <td>
                    {behind === null ? 'unknown' : bytes(behind)}
                    {behind !== null && (
                      <span
                        className="d-inline-block ms-2 bg-warning"
                        style={{ height: '0.6rem', width: `${Math.min(12, Math.log2(1 + behind) / 2)}rem` }}
                      />
                    )}
                  </td>
                </tr>
              )
            })}
        </tbody>
      </Table>
    </Card>
  )
}

function Endpoints({ workload: w }: { workload: Workload }) {
  const [list, setList] = useState<Endpoint[]>([])
  const [copied, setCopied] = useState<string | null>(null)
  const where = `${w.primary} ${w.address?.holder}`
  useEffect(() => {
    read<Endpoint[]>(`/api/v1/workloads/${w.workload}/endpoints`).then(setList, () => setList([]))
  }, [w.workload, where])
  return (
    <Card>
      <Card.Header>What clients paste, and whom each reaches now</Card.Header>
      <Table size="sm" className="mb-0" id="endpoints">
        <tbody>
          {list.map((e) => (
            <tr key={e.purpose}>
              <td>{e.purpose}</td>
              <td>
                <code>{e.text}</code>
              </td>
              <td>{e.reaches ?? 'nobody: held'}</td>
              <td>
                <Button size="sm" variant="outline-secondary" onClick={() => navigator.clipboard.writeText(e.text).then(() => setCopied(e.text), () => undefined)}>
                  {copied === e.text ? '● copied' : 'copy'}
                </Button>
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
    </Card>
  )
}
