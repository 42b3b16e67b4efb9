import { Fragment } from 'react'
import { useStatus } from '../api/live'
import type { Status } from '../api/types'

export function margin({ quorum: q }: Status) {
  if (q.heard < q.needed) return 'no majority: nothing is promoted'
  if (q.cannot_lose.length === 0) return 'the majority survives the loss of any one voter'
  return `losing ${q.cannot_lose.join(' or ')} loses the majority`
}

/** One box for each vote: heard or not, with the line where the majority begins. */
export function Votes() {
  const status = useStatus()
  const { quorum: q } = status
  return (
    <div className="d-flex flex-wrap align-items-center gap-2" id="quorum">
      <span className="votes" role="img" aria-label={`${q.heard} of ${q.total} votes heard, ${q.needed} needed`}>
        {Array.from({ length: q.total }, (_, i) => (
          <Fragment key={i}>
            <i className={i < q.heard ? 'heard' : ''} />
            {i + 1 === q.needed && <b />}
          </Fragment>
        ))}
      </span>
      <span>
        {q.heard} of {q.total} votes heard, {q.needed} needed: <strong>{margin(status)}</strong>
      </span>
    </div>
  )
}
