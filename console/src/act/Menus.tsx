import { Dropdown } from 'react-bootstrap'
import { useStatus } from '../api/live'
import type { NodeView, Workload } from '../api/types'
import { needs, useActing, type Wish } from './acting'

function Item({ wish, children }: { wish: Wish; children: string }) {
  const { may, open } = useActing()
  const level = needs(wish)
  const allowed = may(level)
  return (
    <Dropdown.Item as="button" disabled={!allowed} data-act={wish.act} onClick={() => open(wish)}>
      {children}
      {!allowed && <span className="small"> (needs a token that may {level})</span>}
    </Dropdown.Item>
  )
}

/** What can be asked for of a workload. */
export function WorkloadMenu({ workload: w }: { workload: Workload }) {
  const workload = w.workload
  const { operations } = useStatus()
  const waiting = operations.find((o) => o.id === w.operation && o.waits)
  return (
    <Dropdown align="end">
      <Dropdown.Toggle size="sm" variant="outline-primary" id={`act-${workload}`}>
        Act
      </Dropdown.Toggle>
      <Dropdown.Menu>
        {waiting && <Item wish={{ act: 'approve', operation: waiting.id }}>Approve what waits ...</Item>}
        <Item wish={{ act: 'switchover', workload }}>Switchover ...</Item>
        <Item wish={{ act: 'failover', workload }}>Forced failover ...</Item>
        <Item wish={{ act: 'restart', workload }}>Restart its servers ...</Item>
        {!w.safety_point && <Item wish={{ act: 'keep', workload }}>Safety point ...</Item>}
        <Dropdown.Divider />
        {(['act', 'ask', 'watch'] as const)
          .filter((mode) => mode !== w.mode)
          .map((mode) => (
            <Item key={mode} wish={{ act: 'mode', workload, mode }}>
              {`Mode ${mode} ...`}
            </Item>
          ))}
      </Dropdown.Menu>
    </Dropdown>
  )
}

/** What can be asked for of a node. */
export function NodeMenu({ node: n }: { node: NodeView }) {
  const node = n.node
  return (
    <Dropdown align="end">
      <Dropdown.Toggle size="sm" variant="outline-primary" id={`act-${node}`}>
        Act
      </Dropdown.Toggle>
      <Dropdown.Menu>
        {n.fenced ? <Item wish={{ act: 'readmit', node }}>Readmit ...</Item> : <Item wish={{ act: 'fence', node }}>Fence ...</Item>}
        {!n.maintenance && <Item wish={{ act: 'rest', node }}>Maintenance ...</Item>}
        {n.votes_count === false && <Item wish={{ act: 'enrol', node }}>Enrol its new store ...</Item>}
        {n.power && (
          <>
            <Dropdown.Divider />
            <Item wish={{ act: 'power', node, what: 'cycle' }}>Power off and on ...</Item>
            <Item wish={{ act: 'power', node, what: 'off' }}>Power off ...</Item>
            <Item wish={{ act: 'power', node, what: 'on' }}>Power on ...</Item>
          </>
        )}
      </Dropdown.Menu>
    </Dropdown>
  )
}
