import { type ReactNode, useEffect } from 'react'
import { Alert, Button, Form } from 'react-bootstrap'
import { signOut, type Status } from './api'
import { choose, type Theme, useTheme } from './theme'
import { Stale, useLive } from './useLive'
import { SHAPES, span, WritesWord } from './words'

/** The browser's tab says how things are, too. */
function useTab(status: Status | undefined, stale: boolean) {
  useEffect(() => {
    if (!status) return
    const condition = stale ? 'unknown' : status.condition
    document.title = `${SHAPES[condition]} ${condition}: ${status.cluster}`
    const icon = document.querySelector<HTMLLinkElement>('link[rel=icon]')
    const shape = `<svg xmlns='http://www.w3.org/2000/svg' viewBox='0 0 16 16'><text y='14' font-size='16'>${SHAPES[condition]}</text></svg>`
    if (icon) icon.href = `data:image/svg+xml,${encodeURIComponent(shape)}`
  }, [status, stale])
}

/** What stands on every page: the cluster's name, how it is, and how fresh all of it is. */
export function Frame({ onSignedOut, children }: { onSignedOut: () => void; children: (status: Status) => ReactNode }) {
  const { reply, stale } = useLive()
  const theme = useTheme()
  useTab(reply?.status, stale)
  if (!reply) return <p>Waiting for the cluster ...</p>
  const { status } = reply
  const at = new Date(reply.at)
  return (
    <main>
      <header className="d-flex align-items-center gap-3 mb-2">
        <h1 className="h4 mb-0">{status.cluster}</h1>
        <span className="text-body-secondary ms-auto small">
          seen by {status.seen_by} at {at.toISOString().slice(11, 19)} UTC ({at.toLocaleTimeString()} local)
        </span>
        <Form.Select size="sm" className="w-auto" aria-label="Theme" value={theme} onChange={(e) => choose(e.target.value as Theme)}>
          <option value="system">as the system</option>
          <option value="light">light</option>
          <option value="dark">dark</option>
        </Form.Select>
        <Button id="sign-out" variant="link" size="sm" className="p-0" onClick={() => void signOut().then(onSignedOut)}>
          Sign out
        </Button>
      </header>
      {stale && (
        <Alert variant="danger" id="stale">
          ■ <strong>Not live:</strong> this node has not been heard since {at.toLocaleTimeString()}. Everything below is old.
        </Alert>
      )}
      <div style={{ opacity: stale ? 0.45 : 1 }}>
        <section className={`band band-${status.condition}`} data-condition={status.condition}>
          <div className="d-flex flex-wrap gap-4 align-items-baseline" id="two-facts">
            <span className="band-word">
              {SHAPES[status.condition]} {status.condition}
            </span>
            <WritesWord writes={status.writes} />
            <span data-needs-you={status.needs_you.length}>
              needs you <strong>{status.needs_you.length ? '▲ yes' : '○ no'}</strong>
            </span>
          </div>
          <p className="mb-0" id="sentence">
            {status.sentence}
          </p>
        </section>
        {status.needs_you.map((need) => (
          <div key={need.kind + need.about} className="need" data-need={need.kind}>
            ▲ {need.what}. <strong>{need.next}</strong>
            {need.for_ms != null && ` (for ${span(need.for_ms)})`} <a href="/runbook">runbook: {need.kind}</a>
          </div>
        ))}
        {!reply.complete && <Alert variant="warning">▲ Partial: no coordinator answered; this is what {status.seen_by} knows by itself.</Alert>}
        {!reply.history.reachable && <Alert variant="warning">▲ History delayed: {reply.history.waiting} events wait on {status.seen_by}.</Alert>}
        <Stale value={stale}>{children(status)}</Stale>
      </div>
    </main>
  )
}
