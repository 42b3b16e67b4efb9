import { useQuery } from '@tanstack/react-query'
import { type FormEvent, useState } from 'react'
import { Alert, Button, Form, Offcanvas } from 'react-bootstrap'
import { useNavigate } from 'react-router'
import { useStatus } from '../api/live'
import type { IntentPlan, NodePlan, Plan, Self } from '../api/types'
import { Copy } from '../parts/Copy'
import { Steps } from '../parts/Steps'
import { allows, needs, type Wish } from './acting'
import { callOf, carryOut, type Choice, commandOf, curlOf, isMove, NOTHING_CHOSEN, planOf } from './calls'
import { IntentPlanView, MovePlan, StepsOf } from './PlanView'

const TITLES: Record<Wish['act'], string> = {
  switchover: 'Switchover of',
  failover: 'Forced failover of',
  mode: 'Mode of',
  approve: 'Approve',
  fence: 'Fence',
  readmit: 'Readmit',
  enrol: 'Enrol the new store of',
  power: 'Power of',
  acknowledge: 'Acknowledge',
  forget: 'Take back the acknowledgement of',
  rest: 'Maintenance of',
  restart: 'Restart the servers of',
  keep: 'Safety point of',
  'go-back': 'Back to the safety point of',
  end: 'End',
}

const FOLLOWS: Partial<Record<Wish['act'], string>> = {
  fence: 'It loses all authority, holds nothing until it is readmitted, and its power is cut where there is a device for it.',
  readmit: 'It may hold and vote again.',
  enrol: 'Its vote goes, the new store is taken in, and the vote comes back when it has the whole log.',
  restart: 'One after the other: the standbys first, then a move away from the primary, whose server starts again as a standby.',
  approve: 'What was prepared goes on from here.',
  keep: 'The place where it is now is kept: a standby stops there and stays, until the point is dropped. Clients notice nothing of it.',
  'go-back': 'It goes on from its point. What was written since is given up on every node, and cannot be had again.',
  end: 'What was asked for is over; a maintenance brings back what it moved, where that was wanted; a standby that was held back follows again.',
  acknowledge: 'It stands last in the list from then on, with your name, until it has been gone for a while.',
}

const about = (wish: Wish) => ('workload' in wish ? wish.workload : 'node' in wish ? wish.node : 'operation' in wish ? `op-${wish.operation}` : wish.finding)

/** What the button does. */
const doing = (wish: Wish, to: string) =>
  isMove(wish) ? `${wish.act === 'failover' ? 'Force a failover of' : 'Move'} ${about(wish)}${to && ` to ${to}`}` : `${TITLES[wish.act]} ${about(wish)}`

/** Whose name is typed before it is done: what moves or takes something away, as on the command line. */
const typed = (wish: Wish) => isMove(wish) || ['fence', 'power', 'enrol', 'rest', 'restart', 'keep', 'go-back'].includes(wish.act)

/** What would be done and what stands in the way; then consent; then it goes on as what is shown live. */
export function Drawer({ wish, self, onClose }: { wish: Wish; self: Self; onClose: () => void }) {
  const [choice, setChoice] = useState<Choice>(NOTHING_CHOSEN)
  const [name, setName] = useState('')
  const [error, setError] = useState<string | null>(null)
  const [done, setDone] = useState<string | null>(null)
  const [busy, setBusy] = useState(false)
  const navigate = useNavigate()
  const allowed = allows(self.level, needs(wish))
  const plans = isMove(wish) || ['power', 'enrol', 'rest', 'restart', 'keep', 'go-back'].includes(wish.act)
  const named = (wish.act !== 'failover' || choice.to !== '') && (wish.act !== 'keep' || choice.name !== '')
  const plan = useQuery({
    queryKey: ['plan', wish, choice.to, choice.name, choice.acceptLoss, choice.minutes, choice.back],
    queryFn: () => planOf(wish, choice),
    enabled: plans && named,
    retry: false,
    refetchInterval: 2_000,
    placeholderData: (before) => before,
  })
  const unmet = plan.data ? unmetOf(plan.data) : null
  const ready = allowed && !busy && (!plans || (named && plan.data != null && unmet == null && !plan.isError)) && (!typed(wish) || name === about(wish))
  // What was looked at is what is done: the target is named even if it was chosen for the caller.
  const chosen = { ...choice, to: choice.to || (plan.data && 'to' in plan.data ? (plan.data.to ?? '') : ''), seen: plan.data && 'seen' in plan.data ? plan.data.seen : '' }
  const submit = (event: FormEvent) => {
    event.preventDefault()
    if (!ready) return
    setBusy(true)
    setError(null)
    carryOut(wish, chosen).then(
      (reply) => {
        setBusy(false)
        const operation = 'operation' in reply ? reply.operation : wish.act === 'approve' || wish.act === 'end' ? wish.operation : null
        if (operation != null) {
          onClose()
          void navigate(`/operations/${operation}`)
        } else setDone('text' in reply ? reply.text : 'done')
      },
      (e: Error) => {
        setBusy(false)
        setError(e.message)
      },
    )
  }
  return (
    <Offcanvas show placement="end" onHide={onClose} aria-labelledby="drawer-title" id="drawer">
      <Offcanvas.Header closeButton>
        <Offcanvas.Title as="h2" id="drawer-title">
          {TITLES[wish.act]} {about(wish)}
          {wish.act === 'mode' && `: ${wish.mode}`}
          {wish.act === 'power' && `: ${wish.what}`}
        </Offcanvas.Title>
      </Offcanvas.Header>
      <Offcanvas.Body as="form" onSubmit={submit} className="stack pt-0">
        {FOLLOWS[wish.act] && <p className="mb-0">{FOLLOWS[wish.act]}</p>}
        {wish.act === 'approve' && <Waiting operation={wish.operation} />}
        {isMove(wish) && 'workload' in wish && <MoveChoices wish={wish} choice={choice} onChoice={setChoice} />}
        {wish.act === 'keep' && <PointChoices workload={wish.workload} choice={choice} onChoice={setChoice} />}
        {(wish.act === 'mode' || wish.act === 'rest' || wish.act === 'keep') && <ModeChoices choice={choice} onChoice={setChoice} />}
        {wish.act === 'rest' && (
          <Form.Check id="back" label="move what is held there back when it ends" checked={choice.back} onChange={(e) => setChoice({ ...choice, back: e.target.checked })} />
        )}
        {wish.act === 'acknowledge' && (
          <Form.Control aria-label="note" placeholder="a note: why it may stand" maxLength={200} value={choice.why} onChange={(e) => setChoice({ ...choice, why: e.target.value })} />
        )}
        {plan.isError && (
          <Alert variant="danger" className="mb-0">
            {plan.error.message}
          </Alert>
        )}
        {plan.data && !plan.isError && <PlanShown plan={plan.data} />}
        {unmet && (
          <Alert variant="warning" className="mb-0" id="unmet">
            It cannot be done as things are: {unmet}.
          </Alert>
        )}
        {done ? (
          <Alert variant="success" className="mb-0" id="done">
            {done}
          </Alert>
        ) : (
          <>
            {typed(wish) && (
              <Form.Group>
                <Form.Label htmlFor="consent">
                  Type <strong>{about(wish)}</strong> to approve
                </Form.Label>
                <Form.Control id="consent" autoComplete="off" value={name} onChange={(e) => setName(e.target.value)} />
              </Form.Group>
            )}
            {!allowed && (
              <Alert variant="warning" className="mb-0">
                {self.user} may {self.level}; this needs a token that may {needs(wish)}.
              </Alert>
            )}
            <Button type="submit" disabled={!ready} variant={typed(wish) && wish.act !== 'switchover' ? 'danger' : 'primary'}>
              {busy ? 'Asking ...' : doing(wish, chosen.to)}
            </Button>
          </>
        )}
        {error && (
          <Alert variant="danger" className="mb-0">
            {error}
          </Alert>
        )}
        <SameElsewhere wish={wish} choice={chosen} />
      </Offcanvas.Body>
    </Offcanvas>
  )
}

function PlanShown({ plan }: { plan: Plan | NodePlan | IntentPlan }) {
  if ('preconditions' in plan) return <MovePlan plan={plan} />
  return 'seen' in plan ? <IntentPlanView plan={{ ...plan, unmet: [] }} /> : <StepsOf steps={plan.steps} />
}

function unmetOf(plan: Plan | NodePlan | IntentPlan): string | null {
  if ('seen' in plan) return plan.unmet.length ? plan.unmet.join('; ') : null
  if (!('preconditions' in plan)) return plan.unmet ?? null
  const list = plan.preconditions.filter((p) => p.unmet != null).map((p) => `${p.text}: ${p.unmet}`)
  return list.length ? list.join('; ') : null
}

function Waiting({ operation }: { operation: number }) {
  const found = useStatus().operations.find((o) => o.id === operation)
  return found ? (
    <div>
      <p>{found.what.why}</p>
      <Steps operation={found} />
    </div>
  ) : null
}

function MoveChoices({ wish, choice, onChoice }: { wish: Wish & { workload: string }; choice: Choice; onChoice: (choice: Choice) => void }) {
  const w = useStatus().workloads.find((w) => w.workload === wish.workload)
  const targets = w?.replicas.map((r) => r.node).filter((node) => node !== w.primary) ?? []
  // A person may choose a target that would be refused: its plan says what to do.
  const refused = (node: string) => w?.candidates.find((c) => c.node === node)?.excluded
  return (
    <div className="d-flex flex-wrap gap-3">
      <Form.Group>
        <Form.Label htmlFor="target">To</Form.Label>
        <Form.Select id="target" value={choice.to} onChange={(e) => onChoice({ ...choice, to: e.target.value })}>
          <option value="">{wish.act === 'switchover' ? 'the best candidate' : 'choose a node'}</option>
          {targets.map((node) => (
            <option key={node} value={node}>
              {refused(node) ? `${node}: would be refused, ${refused(node)}` : node}
            </option>
          ))}
        </Form.Select>
      </Form.Group>
      {wish.act === 'failover' && (
        <Form.Group>
          <Form.Label htmlFor="loss">Acknowledged writes that may be lost</Form.Label>
          <Form.Control id="loss" placeholder="none; 300B, 16MiB, all" value={choice.acceptLoss} onChange={(e) => onChoice({ ...choice, acceptLoss: e.target.value })} />
        </Form.Group>
      )}
    </div>
  )
}

function PointChoices({ workload, choice, onChoice }: { workload: string; choice: Choice; onChoice: (choice: Choice) => void }) {
  const w = useStatus().workloads.find((w) => w.workload === workload)
  const standbys = w?.replicas.map((r) => r.node).filter((node) => node !== w.primary) ?? []
  return (
    <div className="d-flex flex-wrap gap-3">
      <Form.Group className="grow">
        <Form.Label htmlFor="point">Its name</Form.Label>
        <Form.Control id="point" placeholder="before-fares" maxLength={40} autoComplete="off" value={choice.name} onChange={(e) => onChoice({ ...choice, name: e.target.value })} />
      </Form.Group>
      <Form.Group style={{ width: 180 }}>
        <Form.Label htmlFor="standby">Kept on</Form.Label>
        <Form.Select id="standby" value={choice.to} onChange={(e) => onChoice({ ...choice, to: e.target.value })}>
          <option value="">whom it misses least</option>
          {standbys.map((node) => (
            <option key={node} value={node}>
              {node}
            </option>
          ))}
        </Form.Select>
      </Form.Group>
    </div>
  )
}

function ModeChoices({ choice, onChoice }: { choice: Choice; onChoice: (choice: Choice) => void }) {
  return (
    <div className="d-flex flex-wrap gap-3">
      <Form.Group className="grow">
        <Form.Label htmlFor="why">Why</Form.Label>
        <Form.Control id="why" maxLength={200} value={choice.why} onChange={(e) => onChoice({ ...choice, why: e.target.value })} />
      </Form.Group>
      <Form.Group style={{ width: 150 }}>
        <Form.Label htmlFor="minutes">For minutes</Form.Label>
        <Form.Control id="minutes" type="number" min={1} placeholder="for good" value={choice.minutes} onChange={(e) => onChoice({ ...choice, minutes: e.target.value })} />
      </Form.Group>
    </div>
  )
}

function SameElsewhere({ wish, choice }: { wish: Wish; choice: Choice }) {
  const curl = curlOf(wish, choice)
  const command = commandOf(wish, choice)
  return (
    <div className="small" data-path={callOf(wish, choice).path}>
      <h3 className="mb-1">The same elsewhere</h3>
      {[command, curl].map((text, i) => (
        <div key={i} className="d-flex gap-2 align-items-start mb-1">
          <code className="grow">{text}</code>
          <Copy text={text} what={i === 0 ? 'the command' : 'the call'} />
        </div>
      ))}
    </div>
  )
}
