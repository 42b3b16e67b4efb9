import { Button } from 'react-bootstrap'
import { useActing, type Wish } from '../act/acting'
import { useStatus } from '../api/live'
import type { Need, Status } from '../api/types'
import { since } from '../words'
import { Runbook } from './Runbook'
import { Shape } from './State'

/** What helps, where it is one thing that can be asked for here. */
function help(need: Need, status: Status): { wish: Wish; text: string } | null {
  const workload = status.workloads.find((w) => w.workload === need.about)
  switch (need.kind) {
    case 'approve':
      return workload?.operation == null ? null : { wish: { act: 'approve', operation: workload.operation }, text: 'look and approve' }
    case 'take-over':
    case 'choose-data':
    case 'bring-back':
      return workload ? { wish: { act: 'failover', workload: workload.workload }, text: 'plan a forced failover' } : null
    case 'readmit':
      return { wish: { act: 'readmit', node: need.about }, text: 'readmit' }
    case 'enrol':
      return { wish: { act: 'enrol', node: need.about }, text: 'enrol' }
    default:
      return null
  }
}

/** All that waits for a person, with the way to it. */
export function Needs() {
  const status = useStatus()
  const { open } = useActing()
  return status.needs_you.map((need) => {
    const way = help(need, status)
    return (
      <div key={need.kind + need.about} className="need" data-need={need.kind}>
        <div>
          <Shape condition="degraded" /> {need.what}. <strong>Next: {need.next}.</strong>
          <span className="quiet">{since(need.for_ms)}</span> <Runbook name={need.kind} />
        </div>
        {way && (
          <Button size="sm" variant="outline-primary" onClick={() => open(way.wish)}>
            {way.text}
          </Button>
        )}
      </div>
    )
  })
}
