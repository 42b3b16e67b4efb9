import { Button } from 'react-bootstrap'
import { useActing } from '../act/acting'
import type { Finding } from '../api/types'
import { authorName, utc } from '../words'
import { Runbook } from './Runbook'
import { Shape } from './State'

/** What stands, what nobody knows of first; each can be acknowledged by name, with a note. */
export function Findings({ findings }: { findings: Finding[] }) {
  const { may, open } = useActing()
  if (findings.length === 0) return <p className="quiet mb-0">Nothing stands against anything.</p>
  return (
    <div className="stack" style={{ gap: 12 }} id="findings">
      {findings.map((f) => (
        <div key={f.name} className="d-flex gap-3 align-items-start" data-finding={f.kind}>
          <Shape condition={f.acknowledged ? 'healthy' : f.severity === 'error' ? 'down' : 'degraded'} />
          <div className="grow">
            {f.what}. <span className="quiet">To mend it: {f.remedy}.</span>{' '}
            <Runbook name={f.kind} />
            {f.path.length > 0 && (
              <div className="small quiet">
                <code>{f.path.join('.')}</code>
              </div>
            )}
            {f.acknowledged && (
              <div className="small">
                {authorName(f.acknowledged.by)} knows of it since {utc(f.acknowledged.at * 1000)} UTC{f.acknowledged.note && `: ${f.acknowledged.note}`}
              </div>
            )}
          </div>
          {may('operate') && (
            <Button size="sm" variant="outline-secondary" onClick={() => open({ act: f.acknowledged ? 'forget' : 'acknowledge', finding: f.name })}>
              {f.acknowledged ? 'take back' : 'acknowledge'}
            </Button>
          )}
        </div>
      ))}
    </div>
  )
}
