import { type ReactNode, useEffect, useState } from 'react'
import { Alert, Dropdown, Nav } from 'react-bootstrap'
import { BroadcastPin, PersonCircle } from 'react-bootstrap-icons'
import { Link, useLocation } from 'react-router'
import { signOut } from '../api/call'
import { type Live, LiveContext, useLive } from '../api/live'
import { useSelf } from '../api/queries'
import type { Status } from '../api/types'
import { choose, type Theme, useTheme } from '../theme/theme'
import { span, utc } from '../words'
import { Band } from './Band'
import { Mark } from './Mark'
import { useTab } from './useTab'

const THEMES: [Theme, string][] = [
  ['system', 'as the system'],
  ['light', 'light'],
  ['dark', 'dark'],
]

/** What stands on every page: the cluster's name, how it is, and how fresh all of it is. */
export function Frame({ onSignedOut, children }: { onSignedOut: () => void; children: ReactNode }) {
  const live = useLive(onSignedOut)
  const self = useSelf().data
  useTab(live)
  const { reply, stale } = live
  if (!reply) return <p className="m-4">Waiting for the cluster ...</p>
  const { status } = reply
  return (
    <LiveContext value={live}>
      <main>
        <header className="top">
          <Link to="/" className="brand">
            <Mark /> {status.cluster}
          </Link>
          <Pages status={status} />
          <span className="ms-auto" />
          <LiveMark live={live} />
          <User onSignedOut={onSignedOut} />
        </header>
        {stale && (
          <Alert variant="danger" id="stale" className="py-2">
            <strong>Not live.</strong> {self?.node} was heard last at {utc(live.heardAt)} UTC; everything below is from then.{' '}
            {live.trying === 'elsewhere' ? 'Another node is looked for.' : 'It is asked again.'}
          </Alert>
        )}
        <div className={stale ? 'old' : undefined}>
          <Band complete={reply.complete} stale={stale} />
          {!reply.complete && (
            <Alert variant="warning" className="py-2">
              <strong>Partial.</strong> No coordinator answered; this is what {status.seen_by} knows by itself.
            </Alert>
          )}
          {!reply.history.reachable && (
            <Alert variant="warning" className="py-2">
              <strong>History delayed.</strong> {reply.history.waiting} events wait on {status.seen_by}.
            </Alert>
          )}
          {children}
        </div>
      </main>
    </LiveContext>
  )
}

function Pages({ status }: { status: Status }) {
  const { pathname } = useLocation()
  const few = status.workloads.length <= 3 ? status.workloads : []
  const links: [string, string][] = [
    ['/', 'Now'],
    ...few.map((w): [string, string] => [`/workloads/${w.workload}`, w.workload]),
    ['/operations', 'Operations'],
    ['/nodes', 'Nodes'],
    ['/quorum', 'Quorum'],
    ['/spec', 'Spec'],
    ['/history', 'History'],
  ]
  const here = links.map(([to]) => to).filter((to) => to === pathname || (to !== '/' && pathname.startsWith(`${to}/`)))
  return (
    <Nav variant="underline" as="nav" aria-label="pages" activeKey={here.at(-1)}>
      {links.map(([to, text]) => (
        <Nav.Item key={to}>
          <Nav.Link as={Link} to={to} eventKey={to}>
            {text}
          </Nav.Link>
        </Nav.Item>
      ))}
    </Nav>
  )
}

/** How old what is shown is, told each second. */
function LiveMark({ live }: { live: Live }) {
  const [now, setNow] = useState(() => Date.now())
  useEffect(() => {
    const timer = setInterval(() => setNow(Date.now()), 1000)
    return () => clearInterval(timer)
  }, [])
  const age = Math.max(0, now - live.heardAt)
  const node = useSelf().data?.node
  const seenBy = live.reply?.status.seen_by
  return (
    <span className="small quiet text-nowrap" id="live" title={`as ${seenBy} sees it, ${live.reply?.at ?? ''}`}>
      <BroadcastPin aria-hidden /> {live.stale ? 'not live' : 'live'} by {node}
      {age >= 3000 && `, heard ${span(age)} ago`}
    </span>
  )
}

function User({ onSignedOut }: { onSignedOut: () => void }) {
  const self = useSelf().data
  const theme = useTheme()
  return (
    <Dropdown align="end">
      <Dropdown.Toggle size="sm" variant="outline-secondary" id="user">
        <PersonCircle aria-hidden /> {self?.user} <span className="quiet rights">may {self?.level}</span>
      </Dropdown.Toggle>
      <Dropdown.Menu>
        <Dropdown.Header as="div">Theme</Dropdown.Header>
        {THEMES.map(([name, text]) => (
          <Dropdown.Item key={name} as="button" active={theme === name} onClick={() => choose(name)}>
            {text}
          </Dropdown.Item>
        ))}
        <Dropdown.Divider />
        <Dropdown.Item as="button" id="sign-out" onClick={() => void signOut().then(onSignedOut, onSignedOut)}>
          Sign out
        </Dropdown.Item>
      </Dropdown.Menu>
    </Dropdown>
  )
}
