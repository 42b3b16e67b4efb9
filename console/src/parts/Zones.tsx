import { Link } from 'react-router'
import { useStatus } from '../api/live'
import type { NodeView, Status } from '../api/types'
import { span } from '../words'
import { Shape } from './State'

/** What a node is for each workload, in words: primary, standby, gate, address. */
export function duties(node: string, status: Status): string[] {
  return status.workloads.flatMap((w) => {
    const replica = w.replicas.find((r) => r.node === node)
    const gate = w.gates.find((g) => g.node === node)
    return [
      w.primary === node ? `★ primary of ${w.workload}` : replica ? `${replica.state === 'unknown' ? 'replica' : replica.state} of ${w.workload}` : null,
      gate ? `gate of ${w.workload}` : null,
      w.address?.holder === node ? `${w.address.held ? 'has' : 'is to have'} ${w.address.on[0]?.split('/')[0]}` : null,
    ].filter((d) => d !== null)
  })
}

export function votesText(n: NodeView) {
  if (n.votes === 0) return 'no vote'
  return `${n.votes} vote${n.votes > 1 ? 's' : ''}${n.votes_count === false ? ', not counted' : ''}${n.witness ? ', witness' : ''}`
}

export function NodeState({ node: n }: { node: NodeView }) {
  if (n.fenced)
    return (
      <>
        <Shape condition="down" /> fenced
      </>
    )
  const up = n.state === 'up'
  return (
    <>
      <Shape condition={up ? 'healthy' : 'unknown'} /> {n.maintenance && 'in maintenance, '} {up ? 'up' : n.state === 'unheard' ? 'never heard' : `not heard for ${span(n.silent_ms)}`}
    </>
  )
}

function Tile({ node: n, status }: { node: NodeView; status: Status }) {
  const look = n.fenced ? 'node-fenced' : n.state === 'up' ? '' : 'node-silent'
  const all = duties(n.node, status)
  const shown = all.slice(0, 4)
  return (
    <Link to={`/nodes/${n.node}`} className={`node ${look}`} data-node={n.node}>
      <div className="d-flex gap-2">
        <strong>{n.node}</strong>
        <span className="ms-auto small">
          <NodeState node={n} />
        </span>
      </div>
      <div className="small quiet">
        {votesText(n)}
        {n.node === status.coordinator && ', coordinator'}
        {n.power && `, power ${n.power.state.replace('-', ' ')}`}
      </div>
      <div className="small">
        {shown.map((d) => (
          <div key={d}>{d}</div>
        ))}
        {all.length > shown.length && <div>and {all.length - shown.length} more</div>}
      </div>
    </Link>
  )
}

/** Links that lose heartbeats, or all of them, each with its direction. */
export function brokenLinks(nodes: NodeView[]): string[] {
  const deaf = (from: string, to: string) => nodes.some((n) => n.node === to && n.does_not_hear.includes(from))
  const broken = nodes.flatMap((to) => to.does_not_hear.map((from) => ({ from, to: to.node, both: deaf(to.node, from) })))
  // A host that nobody hears is no matter of links.
  const up = (node: string) => nodes.some((n) => n.node === node && n.state === 'up')
  const shown = broken.filter((l) => up(l.from) && (!l.both || l.from < l.to))
  const lossy = nodes
    .flatMap((to) =>
      Object.entries(to.misses)
        .filter(([from]) => up(from) && !to.does_not_hear.includes(from))
        .map(([from, share]) => ({ from, to: to.node, share })),
    )
    .sort((a, b) => b.share - a.share)
  // The worst say which; where many lose some, it is no matter of one link.
  const named = lossy.slice(0, 3)
  const rest = lossy[named.length]
  return [
    ...shown.map((l) => (l.both ? `${l.from} ✕ ${l.to}: nothing arrives either way` : `${l.from} ✕→ ${l.to}: one way only`)),
    ...named.map((l) => `${l.from} → ${l.to} loses ${l.share} %`),
    ...(rest ? [`${lossy.length - named.length} more lose up to ${rest.share} %`] : []),
  ]
}

export function Zones() {
  const status = useStatus()
  const zones = [...new Set(status.nodes.map((n) => n.zone))]
  const links = brokenLinks(status.nodes)
  return (
    <div id="zones">
      <div className="small mb-2">
        {links.length === 0 ? (
          <span className="quiet">
            <Shape condition="healthy" /> all visible links are OK
          </span>
        ) : (
          links.map((text) => (
            <div key={text}>
              <Shape condition="degraded" /> {text}
            </div>
          ))
        )}
      </div>
      <div className="zones">
        {zones.map((zone) => (
          <section key={zone}>
            <h3 className="quiet">{zone}</h3>
            {status.nodes
              .filter((n) => n.zone === zone)
              .map((n) => (
                <Tile key={n.node} node={n} status={status} />
              ))}
          </section>
        ))}
      </div>
    </div>
  )
}
