import { Button, Card } from 'react-bootstrap'
import { Link } from 'react-router'
import { needs, useActing } from '../act/acting'
import type { SafetyPointView } from '../api/types'
import { authorName, bytes, span, utc } from '../words'
import { Facts } from './Facts'
import { Runbook } from './Runbook'

/** A place in the workload's writes that is kept, and the two ways in which that ends. */
export function SafetyPoint({ workload, point: p }: { workload: string; point: SafetyPointView }) {
  const { may, open } = useActing()
  return (
    <Card id="safety-point">
      <Card.Header className="d-flex flex-wrap gap-3 align-items-center">
        <h2>Safety point {p.name}</h2>
        <span className="small quiet fw-normal say">
          {p.node} {p.stands ? 'stands there, confirms no write and takes nothing over' : 'is on its way there'} <Runbook name="safety-point-kept" />
        </span>
        <Button size="sm" variant="outline-primary" disabled={!may('operate')} onClick={() => open({ act: 'end', operation: p.intent })}>
          Drop it ...
        </Button>
        <Button size="sm" variant="outline-danger" disabled={!p.stands || !may(needs({ act: 'go-back' }))} onClick={() => open({ act: 'go-back', workload })}>
          Go back to it ...
        </Button>
      </Card.Header>
      <Card.Body>
        <Facts
          rows={[
            ['kept on', <Link key="node" to={`/nodes/${p.node}`}>{p.node}</Link>],
            ['since', `${utc(p.at * 1000)} UTC${p.age_ms == null ? '' : `, for ${span(p.age_ms)}`}`],
            ['written since', p.written_since == null ? 'not known' : `${bytes(p.written_since)} of log`],
            ['kept until', p.until == null ? 'it is dropped' : `${utc(p.until * 1000)} UTC`],
            ['asked for by', authorName(p.by) + (p.why ? `: ${p.why}` : '')],
            ['in the log of its server', p.label == null ? 'not written yet' : <code key="label">{p.label}</code>],
          ]}
        />
      </Card.Body>
    </Card>
  )
}
