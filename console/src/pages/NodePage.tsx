import { Card, Table } from 'react-bootstrap'
import { useParams } from 'react-router'
import { NodeMenu } from '../act/Menus'
import { useStatus } from '../api/live'
import type { NodeView } from '../api/types'
import { Shape } from '../parts/State'
import { duties, NodeState, votesText } from '../parts/Zones'
import { bytes, span, utc } from '../words'
import { Facts, Heads } from '../parts/Facts'

/** As much of each as tells the CAs of a cluster apart. */
const prints = (all: string[]) => (all.length === 0 ? 'nobody knows' : all.map((print) => print.slice(0, 8)).join(' and '))

export function NodePage() {
  const { name = '' } = useParams()
  const status = useStatus()
  const n = status.nodes.find((n) => n.node === name)
  if (!n) return <p>There is no node `{name}`; there are: {status.nodes.map((n) => n.node).join(', ')}.</p>
  return (
    <div className="stack" data-node={n.node}>
      <div className="d-flex flex-wrap gap-3 align-items-center">
        <h1>{n.node}</h1>
        <strong>
          <NodeState node={n} />
        </strong>
        <span className="say">
          in {n.zone}; {votesText(n)}
          {n.node === status.coordinator && '; it is coordinator'}
        </span>
        <NodeMenu node={n} />
      </div>
      <div className="two">
        <WhatItIs node={n} has={duties(n.node, status)} />
        <Links node={n} nodes={status.nodes} />
      </div>
      <Rooms node={n} />
    </div>
  )
}

function WhatItIs({ node: n, has }: { node: NodeView; has: string[] }) {
  const about = n.about
  const power = n.power
  const rows: [string, string][] = [
    ['has', has.join(', ') || 'nothing but the log'],
    ['fenced', n.fenced ?? 'no'],
    ['power', power ? (power.state === 'unknown' ? `unknown: ${power.why}` : power.state.replace('-', ' ')) : 'no device: only its lease’s end proves that it is gone'],
    ...(about
      ? ([
          ['Karst', about.version],
          ['servers', Object.entries(about.servers).map(([w, v]) => `${v} (${w})`).join(', ') || 'none has said its version'],
          ['daemon runs since', `${utc(about.since * 1000)} UTC`],
          ['boot', about.boot],
          ['packet guard', about.unguarded == null ? 'works' : `not in force: ${about.unguarded}`],
          ['watchdog', about.watchdog ?? 'none: a host that stands still as a whole is not reset'],
          ['CA', `certificate of ${prints(about.authorities.signed_by)}, believes ${prints(about.authorities.trusted)}`],
          ['certificate', about.certificate_until == null ? 'cannot be read' : `ends ${utc(about.certificate_until * 1000)} UTC`],
        ] as [string, string][])
      : ([['of itself', 'it has said nothing yet']] as [string, string][])),
    ['console', n.console ?? 'none for other hosts'],
  ]
  return (
    <Card>
      <Card.Header as="h2">What it is</Card.Header>
      <Card.Body>
        <Facts rows={rows} />
      </Card.Body>
    </Card>
  )
}

function Links({ node: n, nodes }: { node: NodeView; nodes: NodeView[] }) {
  const word = (to: NodeView, from: NodeView) => {
    if (to.state !== 'up') return { text: 'not known: it is not heard itself', bad: true }
    if (to.does_not_hear.includes(from.node)) return { text: 'nothing arrives', bad: true }
    const lost = to.misses[from.node]
    return lost ? { text: `loses ${lost} %`, bad: true } : { text: 'works', bad: false }
  }
  return (
    <Card>
      <Card.Header as="h2">Links</Card.Header>
      <Card.Body className="pt-1">
        <Table size="sm" className="mb-0">
          <Heads names={['Other node', 'to it', 'from it']} />
          <tbody>
            {nodes
              .filter((other) => other.node !== n.node)
              .map((other) => (
                <tr key={other.node}>
                  <td>{other.node}</td>
                  {[word(other, n), word(n, other)].map(({ text, bad }, i) => (
                    <td key={i}>
                      <Shape condition={bad ? 'degraded' : 'healthy'} /> {text}
                    </td>
                  ))}
                </tr>
              ))}
          </tbody>
        </Table>
        {n.state !== 'up' && <p className="small quiet mt-2 mb-0">It was heard last {span(n.silent_ms)} ago.</p>}
      </Card.Body>
    </Card>
  )
}

function Rooms({ node: n }: { node: NodeView }) {
  const rooms = n.about?.rooms ?? []
  if (rooms.length === 0) return null
  return (
    <Card>
      <Card.Header as="h2">Room</Card.Header>
      <Card.Body className="pt-1 table-responsive">
        <Table size="sm" className="mb-0">
          <Heads names={['For', 'Directory', 'Free', 'Of']} />
          <tbody>
            {rooms.map((room) => (
              <tr key={room.of}>
                <td>{room.of}</td>
                <td>
                  <code>{room.path}</code>
                </td>
                <td className="text-nowrap">
                  <Shape condition={room.nearly_full ? 'degraded' : 'healthy'} /> {bytes(room.free)}
                </td>
                <td className="text-nowrap">{bytes(room.total)}</td>
              </tr>
            ))}
          </tbody>
        </Table>
      </Card.Body>
    </Card>
  )
}
