import { useEffect, useState } from 'react'
import { Alert, Form, Table } from 'react-bootstrap'
import { type Event, type HistoryReply, read } from './api'

/** What was recorded, newest first, with the evidence; read again whenever the log has grown. */
export function HistoryPage({ applied, operation }: { applied: number; operation: string }) {
  const [reply, setReply] = useState<HistoryReply | null>(null)
  const [error, setError] = useState<string | null>(null)
  const [wanted, setWanted] = useState(operation && `op-${operation}`)
  useEffect(() => {
    read<HistoryReply>('/api/v1/history?limit=400').then(
      (r) => {
        setReply(r)
        setError(null)
      },
      (e: Error) => setError(e.message),
    )
  }, [applied])
  if (!reply) return <p>{error ?? 'Reading ...'}</p>
  const words = (e: Event) => `${e.node} ${e.kind} ${e.text} op-${e.operation ?? ''}`.toLowerCase()
  const shown = reply.records.filter((e) => words(e).includes(wanted.toLowerCase())).reverse()
  return (
    <>
      {error && <Alert variant="warning">▲ {error}</Alert>}
      {reply.own_only && <Alert variant="warning">▲ The history store does not answer: only what this node still keeps.</Alert>}
      <Form.Control
        className="mb-2"
        placeholder="only lines with: a node, a kind, op-12, a word"
        value={wanted}
        onChange={(e) => setWanted(e.target.value)}
      />
      <Table size="sm" className="small" id="history">
        <thead>
          <tr>
            <th>UTC</th>
            <th>Node</th>
            <th>Kind</th>
            <th>What, and the evidence</th>
          </tr>
        </thead>
        <tbody>
          {shown.map((e) => (
            <tr key={`${e.node} ${e.number}`} className={e.level === 'warning' ? 'table-warning' : undefined}>
              <td className="text-nowrap" title={new Date(e.at).toLocaleString()}>
                {e.at.slice(11, 23)}
              </td>
              <td>{e.node}</td>
              <td className="text-nowrap">{e.kind}</td>
              <td>
                {e.text} {e.operation != null && <a href={`#/operation/${e.operation}`}>op-{e.operation}</a>}
                <div className="text-body-secondary">
                  {Object.entries(e.data).map(([key, value]) => (
                    <span key={key} className="me-3">
                      {key} <code>{value}</code>
                    </span>
                  ))}
                </div>
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
    </>
  )
}
