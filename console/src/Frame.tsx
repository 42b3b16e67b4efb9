import type { ReactNode } from 'react'
import { Alert, Button } from 'react-bootstrap'
import { signOut, type Status } from './api'
import { Stale, useLive } from './useLive'
import { ConditionBadge } from './words'

/** What stands on every page: the cluster's name, the sentence, and how fresh all of it is. */
export function Frame({ onSignedOut, children }: { onSignedOut: () => void; children: (status: Status) => ReactNode }) {
  const { reply, stale } = useLive()
  if (!reply) return <p>Waiting for the cluster ...</p>
  const { status } = reply
  const at = new Date(reply.at)
  return (
    <main>
      {stale && (
        <Alert variant="danger" id="stale">
          ■ <strong>Not live:</strong> this node has not been heard since {at.toLocaleTimeString()}. Everything below is old.
        </Alert>
      )}
      <div style={{ opacity: stale ? 0.45 : 1 }}>
        <header className="d-flex align-items-baseline gap-3">
          <h1 className="h4 mb-0">{status.cluster}</h1>
          <ConditionBadge condition={status.condition} />
          <span className="text-body-secondary ms-auto small">
            seen by {status.seen_by} at {at.toISOString().slice(11, 19)} UTC ({at.toLocaleTimeString()} local)
          </span>
          <Button id="sign-out" variant="link" size="sm" className="p-0" onClick={() => void signOut().then(onSignedOut)}>
            Sign out
          </Button>
        </header>
        <p className="fs-5 mb-1" id="sentence">
          {status.sentence}
        </p>
        {!reply.complete && <Alert variant="warning">▲ Partial: no coordinator answered; this is what {status.seen_by} knows by itself.</Alert>}
        {!reply.history.reachable && <Alert variant="warning">▲ History delayed: {reply.history.waiting} events wait on {status.seen_by}.</Alert>}
        <Stale value={stale}>{children(status)}</Stale>
      </div>
    </main>
  )
}
