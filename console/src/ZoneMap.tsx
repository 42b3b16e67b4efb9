import { Fragment } from 'react'
import { Card } from 'react-bootstrap'
import type { NodeView, Status } from './api'

/** What a node is for each workload, in words: primary, standby, gate, address. */
function duties(node: string, status: Status): string[] {
  return status.workloads.flatMap((w) => {
    const replica = w.replicas.find((r) => r.node === node)
    const gate = w.gates.find((g) => g.node === node)
    return [
      w.primary === node ? `★ primary of ${w.workload}` : replica ? `${replica.state === 'unknown' ? 'replica' : replica.state} of ${w.workload}` : null,
      gate ? `gate of ${w.workload}` : null,
      w.address?.holder === node ? `${w.address.held ? '◆ has' : '◇ is to have'} ${w.address.on[0]?.split('/')[0]}` : null,
    ].filter((d) => d !== null)
  })
}

function Tile({ node: n, status }: { node: NodeView; status: Status }) {
  const up = n.state === 'up'
  const border = n.fenced ? 'node-fenced' : up ? 'node-up' : 'node-silent'
  return (
    <div className={`node ${border} p-2 mb-2 small`} data-node={n.node}>
      <div className="d-flex gap-2">
        <strong>{n.node}</strong>
        <span className="ms-auto">{up ? '● up' : `■ ${n.state} for ${(n.silent_ms / 1000).toFixed(1)} s`}</span>
      </div>
      <div className="text-body-secondary">
        {n.votes > 0 ? `${n.votes} vote${n.votes_count === false ? ', not counted' : ''}${n.witness ? ', witness' : ''}` : 'no vote'}
        {n.node === status.coordinator && ' · coordinator'}
        {n.power && ` · power ${n.power.state.replace('-', ' ')}`}
      </div>
      {n.fenced && <div>■ fenced: {n.fenced}</div>}
      {duties(n.node, status).map((d) => (
        <div key={d}>{d}</div>
      ))}
    </div>
  )
}

/** Links that lose heartbeats, or all of them, each with its direction. */
function BrokenLinks({ nodes }: { nodes: NodeView[] }) {
  const deaf = (from: string, to: string) => nodes.some((n) => n.node === to && n.does_not_hear.includes(from))
  const broken = nodes.flatMap((to) => to.does_not_hear.map((from) => ({ from, to: to.node, both: deaf(to.node, from) })))
  // A host that nobody hears is no matter of links.
  const up = (node: string) => nodes.some((n) => n.node === node && n.state === 'up')
  const shown = broken.filter((l) => up(l.from) && (!l.both || l.from < l.to))
  const lossy = nodes.flatMap((to) =>
    Object.entries(to.misses)
      .filter(([from]) => up(from) && !to.does_not_hear.includes(from))
      .map(([from, share]) => ({ from, to: to.node, share })),
  ).sort((a, b) => b.share - a.share)
  // The worst say which; where many lose some, it is no matter of one link.
  const named = lossy.slice(0, 3)
  const rest = lossy[named.length]
  if (shown.length + lossy.length === 0) return <>● every link that can be seen works</>
  return (
    <>
      ▲{' '}
      {[
        ...shown.map((l) => (l.both ? `${l.from} ✕ ${l.to}` : `${l.from} ✕→ ${l.to} (one way)`)),
        ...named.map((l) => `${l.from} → ${l.to} loses ${l.share} %`),
        ...(rest ? [`${lossy.length - named.length} more lose up to ${rest.share} %`] : []),
      ].join(', ')}
    </>
  )
}

export function ZoneMap({ status }: { status: Status }) {
  const zones = [...new Set(status.nodes.map((n) => n.zone))]
  return (
    <Card id="zones">
      <Card.Header>
        Links: <BrokenLinks nodes={status.nodes} />
      </Card.Header>
      <Card.Body className="gap-3 pb-1" style={{ display: 'grid', gridTemplateColumns: `repeat(${zones.length}, minmax(0, 1fr))` }}>
        {zones.map((zone) => (
          <section key={zone}>
            <h2 className="h6 text-body-secondary">{zone}</h2>
            {status.nodes
              .filter((n) => n.zone === zone)
              .map((n) => (
                <Tile key={n.node} node={n} status={status} />
              ))}
          </section>
        ))}
      </Card.Body>
    </Card>
  )
}

/** One box for each vote: heard or not, with the line where the majority begins. */
export function QuorumMeter({ status }: { status: Status }) {
  const { quorum: q } = status
  const boxes = Array.from({ length: q.total }, (_, i) => i)
  const margin =
    q.heard < q.needed
      ? '■ no majority: nothing is promoted'
      : q.cannot_lose.length === 0
        ? '● the majority survives the loss of any one voter'
        : `▲ losing ${q.cannot_lose.join(' or ')} loses the majority`
  return (
    <div className="d-flex align-items-center gap-1 mb-2" id="quorum">
      <span className="me-1">Votes</span>
      {boxes.map((i) => (
        <Fragment key={i}>
          <span
            className={`border ${i < q.heard ? (q.heard < q.needed ? 'state-down' : 'state-healthy') : 'bg-body-secondary'}`}
            style={{ width: '1.6rem', height: '1rem' }}
            title={i < q.heard ? 'heard' : 'not heard'}
          />
          {i + 1 === q.needed && <span style={{ background: 'var(--bs-body-color)', width: '3px', height: '1.5rem' }} title="the majority" />}
        </Fragment>
      ))}
      <span className="ms-2">
        {q.heard} of {q.total} heard, {q.needed} needed; <strong>{margin}</strong>
      </span>
    </div>
  )
}
