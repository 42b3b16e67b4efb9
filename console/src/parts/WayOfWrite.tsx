import { ArrowRight, SlashCircle } from 'react-bootstrap-icons'
import { Fragment, type ReactNode } from 'react'
import { Link } from 'react-router'
import type { Gate, Name, Replica, Workload } from '../api/types'
import { bytes, span } from '../words'

type Look = 'whole' | 'waits' | 'broken'

function Box({ look, kind, name, children }: { look: Look; kind: string; name: ReactNode; children: ReactNode }) {
  return (
    <div className={`box ${look}`} data-stop={kind} data-look={look}>
      <span className="label">{kind}</span>
      <strong>{name}</strong>
      <span className="small">
        {look === 'broken' && '✕ '}
        {look === 'waits' && '◐ '}
        {children}
      </span>
    </div>
  )
}

function Hop({ whole }: { whole: boolean }) {
  const Icon = whole ? ArrowRight : SlashCircle
  return (
    <div className={`hop ${whole ? '' : 'broken'}`} role="img" aria-label={whole ? 'goes on to' : 'ends here'}>
      <Icon size={20} />
    </div>
  )
}

function GateBox({ gate }: { gate: Gate }) {
  const { seen, forwards_to: to } = gate
  if (!seen)
    return (
      <Box look="broken" kind="gate" name={gate.node}>
        not heard
      </Box>
    )
  const lost = seen.unreachable?.join(', ')
  const leads = to ? (lost ? `does not reach ${lost}, leads there by way of another gate` : `leads to ${to}`) : `${lost ? `does not reach ${lost}, ` : ''}holds new connections`
  return (
    <Box look={to && !lost ? 'whole' : 'waits'} kind="gate" name={gate.node}>
      {leads}, {seen.connections} connected{seen.waiting > 0 && `, ${seen.waiting} waiting`}
    </Box>
  )
}

/** What is the matter with a standby, if anything. */
function lookOf(r: Replica): Look {
  if (r.state === 'stopped' || r.state === 'unknown') return 'broken'
  return r.state === 'standby' && r.in_sync_set && r.server?.streaming === true ? 'whole' : 'waits'
}

/** What a standby is, in a few words. */
function kindOf(r: Replica, held: boolean): string {
  if (r.in_sync_set) return 'standby, has every write'
  if (r.state === 'standby') return held ? 'standby, held back' : 'standby, catching up'
  return `standby, ${r.state === 'unknown' ? 'not heard' : r.state}`
}

function StandbyBox({ replica, workload }: { replica: Replica; workload: Workload }) {
  const primary = workload.replicas.find((r) => r.node === workload.primary)
  const seen = primary?.server?.standbys.find((s) => s.node === replica.node)
  const look = lookOf(replica)
  return (
    <Box look={look} kind={kindOf(replica, workload.safety_point?.node === replica.node)} name={<Link to={`/nodes/${replica.node}`}>{replica.node}</Link>}>
      {replica.detail}
      {replica.lag != null && `, ${bytes(replica.lag)} behind`}
      {seen?.delay_ms != null && `, replays within ${span(seen.delay_ms)}`}
    </Box>
  )
}

/** It breaks at its dots, where it has to. */
function broken(name: string) {
  const part = (text: string, i: number) => (
    <Fragment key={i}>
      {i > 0 && (
        <>
          .<wbr />
        </>
      )}
      {text}
    </Fragment>
  )
  return name.split('.').map(part)
}

function NameBox({ name }: { name: Name }) {
  const list = (to?: string[] | null) => (to ?? []).join(', ')
  const settled = name.wanted == null || list(name.to) === list(name.wanted)
  return (
    <Box look={name.remark != null ? 'broken' : settled ? 'whole' : 'waits'} kind="name" name={broken(name.record)}>
      {name.to == null ? 'was not read yet' : name.to.length ? `leads to ${list(name.to)}` : 'leads nowhere yet'}
      {name.remark && `; ${name.remark}`}
    </Box>
  )
}

/** The way of a client's write, from left to right, with the piece that is broken. */
export function WayOfWrite({ workload: w }: { workload: Workload }) {
  const connected = w.gates.reduce((sum, gate) => sum + (gate.seen?.connections ?? 0), 0)
  const waiting = w.gates.reduce((sum, gate) => sum + (gate.seen?.waiting ?? 0), 0)
  const primary = w.replicas.find((r) => r.node === w.primary)
  const standbys = w.replicas.filter((r) => r.node !== w.primary)
  const open = w.writes.state === 'accepted'
  return (
    <div className="way" data-way={w.workload}>
      <div className="stop">
        <Box look={open ? 'whole' : 'waits'} kind="clients" name={w.gates.length ? `${connected} connected` : 'clients'}>
          {waiting > 0 ? `${waiting} wait for an answer` : `writes ${w.writes.state}`}
        </Box>
      </div>
      {(w.name ?? w.address) && (
        <>
          <Hop whole={w.name?.remark == null && w.address?.held !== false} />
          <div className="stop">
            {w.name && <NameBox name={w.name} />}
            {w.address && (
              <Box look={w.address.held ? (w.address.remark ? 'waits' : 'whole') : 'broken'} kind="address" name={w.address.on.map((on) => on.split('/')[0]).join(' ')}>
                {w.address.holder ? `${w.address.held ? 'on' : 'goes to'} ${w.address.holder}` : 'nowhere'}
                {w.address.remark && `; ${w.address.remark}`}
              </Box>
            )}
          </div>
        </>
      )}
      {w.gates.length > 0 && (
        <>
          <Hop whole={w.gates.some((gate) => gate.seen != null)} />
          <div className="stop">
            {w.gates.map((gate) => (
              <GateBox key={gate.node} gate={gate} />
            ))}
          </div>
        </>
      )}
      <Hop whole={primary?.state === 'primary' && (w.gates.length === 0 || w.gates.some((gate) => gate.forwards_to != null))} />
      <div className="stop">
        {primary ? (
          <Box look={primary.state !== 'primary' ? 'broken' : open ? 'whole' : 'waits'} kind="primary" name={<Link to={`/nodes/${primary.node}`}>{primary.node}</Link>}>
            {primary.detail}
          </Box>
        ) : (
          <Box look="broken" kind="primary" name="nobody">
            {w.sentence}
          </Box>
        )}
      </div>
      {standbys.length > 0 && (
        <>
          <Hop whole={primary?.state === 'primary' && standbys.some((r) => r.in_sync_set && r.state === 'standby')} />
          <div className="stop">
            {standbys.map((r) => (
              <StandbyBox key={r.node} replica={r} workload={w} />
            ))}
          </div>
        </>
      )}
    </div>
  )
}
