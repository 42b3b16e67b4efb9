import { Card, Table } from 'react-bootstrap'
import { Link } from 'react-router'
import type { Reads } from '../api/types'
import { bytes, span } from '../words'
import { Heads } from './Facts'
import { Shape } from './State'

/** Who serves those who only read, who does not and why, and what comes through their gates. */
export function Readers({ reads, primary }: { reads: Reads; primary?: string | null }) {
  const limit = `data at most ${span(reads.age_ms)} old` + (reads.behind == null ? '' : ` and ${bytes(reads.behind)} behind`)
  return (
    <Card id="readers">
      <Card.Header className="d-flex gap-3 align-items-center">
        <h2>Readers</h2>
        <span className="small quiet fw-normal">see {limit}</span>
      </Card.Header>
      <Card.Body className="table-responsive pt-1 stack">
        <div className="d-flex flex-wrap gap-3">
          {reads.readers.map((r) => (
            <span key={r.node}>
              {r.node !== primary && <Shape condition={r.serves === true ? 'healthy' : 'degraded'} />} <strong>{r.node}</strong>{' '}
              {r.serves === true ? 'serves readers' : r.serves === false ? `does not: ${r.why ?? 'no reason is known'}` : 'is not known about here'}
            </span>
          ))}
        </div>
        <Table size="sm" className="mb-0">
          <Heads names={['Read gate', 'Address', 'Forwards to', 'Connections', 'Waiting']} />
          <tbody>
            {reads.gates.map((g) => (
              <tr key={g.node}>
                <td>
                  <Link to={`/nodes/${g.node}`}>{g.node}</Link>
                </td>
                <td>
                  <code>{g.address}</code>
                </td>
                <td>{g.seen == null ? 'not heard' : g.forwards_to.join(', ') || 'nobody, new readers wait'}</td>
                <td>{g.seen?.connections ?? ''}</td>
                <td>{g.seen?.waiting ?? ''}</td>
              </tr>
            ))}
          </tbody>
        </Table>
      </Card.Body>
    </Card>
  )
}
