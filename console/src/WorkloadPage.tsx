import { useEffect, useState } from 'react'
import { Button, Card, Table } from 'react-bootstrap'
import { type Endpoint, read, type Status, type Workload } from './api'
import { bytes } from './words'
import { WorkloadCard } from './WorkloadCard'

/** How much lies between two places; not known is not zero. */
const between = (from: number | null | undefined, to: number | null | undefined) =>
  from == null || to == null ? 'unknown' : bytes(Math.max(0, to - from))

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
  const primary = w.replicas.find((r) => r.node === w.primary)?.server
  return (
    <Card>
      <Card.Header>
        How far each is {primary && <>(primary at {primary.place ?? 'an unknown place'})</>}; bar: what is still to be replayed
      </Card.Header>
      <Table size="sm" className="mb-0" id="positions">
        <thead>
          <tr>
            <th>Standby</th>
            <th>It is at</th>
            <th>Still to send</th>
            <th>On its way</th>
            <th>Still to replay</th>
            <th>Behind</th>
          </tr>
        </thead>
        <tbody>
          {w.replicas
            .filter((r) => r.node !== w.primary)
            .map((r) => {
              const seen = r.server
              const sent = primary?.standbys.find((s) => s.node === r.node)
              const [head, replayed] = [primary?.position?.number ?? null, seen?.replayed ?? null]
              const behind = head !== null && replayed !== null ? Math.max(0, head - replayed) : null
              return (
                <tr key={r.node}>
                  <td>{r.node}</td>
                  <td>{seen?.runs ? (seen.place ?? 'unknown') : ''}</td>
                  <td>{sent ? between(sent.sent, head) : 'not streaming'}</td>
                  <td>{sent && seen?.runs ? between(seen.received, sent.sent) : ''}</td>
                  <td>{seen?.runs ? between(seen.replayed, seen.received) : ''}</td>
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
              <td>{e.reaches ?? 'no primary, connections wait'}</td>
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
