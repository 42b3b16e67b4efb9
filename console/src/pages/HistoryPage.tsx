import { useState } from 'react'
import { Alert, Button, Card, Form, Table } from 'react-bootstrap'
import { Link, useSearchParams } from 'react-router'
import { useStatus } from '../api/live'
import { useHistory } from '../api/queries'
import type { Event } from '../api/types'
import { local, utc } from '../words'
import { Heads } from '../parts/Facts'

const PAGE = 200
const FILTERS = ['workload', 'node', 'level', 'kind', 'operation', 'audit', 'before'] as const

/** What was recorded, newest first, with the evidence; the filters are in the address. */
export function HistoryPage() {
  const status = useStatus()
  const [asked, ask] = useSearchParams({ audit: 'without' })
  const [wanted, setWanted] = useState('')
  const query = new URLSearchParams({ limit: String(PAGE) })
  for (const key of FILTERS) {
    const value = asked.get(key)?.trim()
    if (value) query.set(key, value)
  }
  const { data: reply, error } = useHistory(query.toString())
  const set = (key: string, value: string) =>
    ask((before) => {
      const next = new URLSearchParams(before)
      if (key !== 'before') next.delete('before')
      if (value) next.set(key, value)
      else next.delete(key)
      return next
    })
  const words = (e: Event) => `${e.node} ${e.kind} ${e.text} op-${e.operation ?? ''}`.toLowerCase()
  const records = [...(reply?.records ?? [])].reverse()
  const shown = records.filter((e) => words(e).includes(wanted.toLowerCase()))
  const oldest = records.at(-1)
  const select = (key: string, label: string, values: [string, string][]) => (
    <Form.Select size="sm" className="w-auto" aria-label={label} value={asked.get(key) ?? ''} onChange={(e) => set(key, e.target.value)}>
      {values.map(([value, text]) => (
        <option key={value} value={value}>
          {text}
        </option>
      ))}
    </Form.Select>
  )
  const exported = new URLSearchParams(query)
  exported.delete('limit')
  return (
    <Card>
      <Card.Header className="d-flex flex-wrap gap-2 align-items-center">
        <h1 className="me-2">History</h1>
        {select('workload', 'workload', [['', 'every workload'], ...status.workloads.map((w): [string, string] => [w.workload, w.workload])])}
        {select('node', 'node', [['', 'every node'], ...status.nodes.map((n): [string, string] => [n.node, n.node])])}
        {select('level', 'level', [
          ['', 'every level'],
          ['notice', 'notices and warnings'],
          ['warning', 'warnings'],
        ])}
        {select('audit', 'audit', [
          ['without', 'what the cluster did'],
          ['only', 'who asked for what'],
          ['', 'both'],
        ])}
        <Form.Control size="sm" style={{ width: 124 }} placeholder="kinds, a,b" aria-label="kinds" defaultValue={asked.get('kind') ?? ''} onBlur={(e) => set('kind', e.target.value)} onKeyDown={(e) => e.key === 'Enter' && set('kind', e.currentTarget.value)} />
        <Form.Control size="sm" style={{ width: 124 }} placeholder="with these words" aria-label="words" value={wanted} onChange={(e) => setWanted(e.target.value)} />
        {asked.get('operation') && (
          <Button size="sm" variant="outline-secondary" onClick={() => set('operation', '')}>
            op-{asked.get('operation')} only ✕
          </Button>
        )}
        <span className="grow" />
        {['csv', 'jsonl'].map((format) => (
          <a key={format} className="btn btn-sm btn-outline-secondary" href={`/api/v1/history.${format}?${exported}`}>
            {format}
          </a>
        ))}
      </Card.Header>
      <Card.Body className="table-responsive pt-2">
        {error && <Alert variant="warning">{error.message}</Alert>}
        {reply?.own_only && <Alert variant="warning">The history store does not answer: only what this node still keeps.</Alert>}
        <Table size="sm" id="history">
          <Heads names={['UTC', 'Node', 'Kind', 'What, and the evidence']} />
          <tbody>
            {shown.map((e) => (
              <tr key={`${e.node} ${e.number} ${e.at}`}>
                <td className="text-nowrap" title={local(e.at)}>
                  {utc(e.at, true)}
                </td>
                <td>{e.node}</td>
                <td className="text-nowrap">
                  {e.level === 'warning' && '▲ '}
                  {e.kind}
                </td>
                <td>
                  {e.text} {e.operation != null && <Link to={`/operations/${e.operation}`}>op-{e.operation}</Link>}
                  <div className="small quiet">
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
        {reply && shown.length === 0 && <p>Nothing of that is on record.</p>}
        <div className="d-flex gap-2">
          {asked.get('before') && (
            <Button size="sm" variant="outline-primary" onClick={() => set('before', '')}>
              back to the newest
            </Button>
          )}
          {oldest && records.length >= PAGE && (
            <Button size="sm" variant="outline-primary" onClick={() => set('before', oldest.at)}>
              older
            </Button>
          )}
        </div>
      </Card.Body>
    </Card>
  )
}
