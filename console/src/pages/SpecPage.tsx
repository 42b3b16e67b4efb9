import { useMutation, useQuery } from '@tanstack/react-query'
import { type FormEvent, useState } from 'react'
import { Alert, Button, Card, Form, Table } from 'react-bootstrap'
import { useNavigate } from 'react-router'
import { useActing } from '../act/acting'
import { IntentPlanView } from '../act/PlanView'
import { call, read } from '../api/call'
import { useStatus } from '../api/live'
import { useSpec } from '../api/queries'
import type { IntentPlan, PastRevision, RevisionReply, SpecReply, Started } from '../api/types'
import { differing } from '../parts/difference'
import { Findings } from '../parts/Findings'
import { Heads } from '../parts/Facts'
import { Intents } from '../parts/Intents'
import { utc } from '../words'

/** The spec in force; what another one would take; and every one before. */
export function SpecPage() {
  const spec = useSpec().data
  if (!spec) return <p>Reading ...</p>
  // Another revision is another text to begin with.
  return <Editor key={spec.revision} spec={spec} />
}

function Editor({ spec }: { spec: SpecReply }) {
  const { may } = useActing()
  const status = useStatus()
  const navigate = useNavigate()
  const [text, setText] = useState(spec.text)
  const [why, setWhy] = useState('')
  const [name, setName] = useState('')
  const changed = text !== spec.text
  const plan = useMutation({ mutationFn: (body: string) => call<IntentPlan>('POST', '/api/v1/spec/plan', { text: body }) })
  const submit = useMutation({
    mutationFn: (seen: string) => call<Started>('PUT', '/api/v1/spec', { text, seen, ...(why && { why }) }, { 'If-Match': `"${spec.revision}"` }),
    onSuccess: ({ operation }) => void navigate(`/operations/${operation}`),
  })
  const edit = (next: string) => {
    setText(next)
    plan.reset()
    submit.reset()
  }
  const planned = changed ? plan.data : undefined
  const ready = may('administer') && planned != null && planned.unmet.length === 0 && name === status.cluster && !submit.isPending
  const onSubmit = (event: FormEvent) => {
    event.preventDefault()
    if (planned == null) plan.mutate(text)
    else if (ready) submit.mutate(planned.seen)
  }
  return (
    <div className="stack">
      <div>
        <h1>Spec</h1>
        Revision <strong id="revision">{spec.revision}</strong> is in force, by {spec.by}
        {spec.at > 0 && `, since ${utc(spec.at * 1000)} UTC`}
        {spec.why && `: ${spec.why}`}.
      </div>
      <Intents />
      <Form className="two" onSubmit={onSubmit}>
        <Card>
          <Card.Header as="h2">As it is written</Card.Header>
          <Card.Body className="stack">
            <Form.Control as="textarea" id="text" aria-label="the spec" spellCheck={false} rows={28} className="font-monospace small" value={text} onChange={(e) => edit(e.target.value)} />
            <div className="d-flex flex-wrap gap-2">
              <Button type="submit" id="plan-it" disabled={!changed || plan.isPending || planned != null} variant="outline-primary">
                {plan.isPending ? 'Asking ...' : 'Show what it takes'}
              </Button>
              {changed && (
                <Button variant="outline-secondary" onClick={() => edit(spec.text)}>
                  Back to revision {spec.revision}
                </Button>
              )}
            </div>
          </Card.Body>
        </Card>
        <div className="stack">
          {changed && <Difference before={spec.text} after={text} />}
          {plan.isError && (
            <Alert variant="danger" className="mb-0" id="refused">
              {plan.error.message}
            </Alert>
          )}
          {planned && (
            <Card id="plan">
              <Card.Header as="h2">What it takes</Card.Header>
              <Card.Body className="stack">
                <IntentPlanView plan={planned} />
                {planned.unmet.length === 0 && (
                  <>
                    <Form.Group>
                      <Form.Label htmlFor="why">Why</Form.Label>
                      <Form.Control id="why" maxLength={200} value={why} onChange={(e) => setWhy(e.target.value)} />
                    </Form.Group>
                    <Form.Group>
                      <Form.Label htmlFor="consent">
                        Type <strong>{status.cluster}</strong> to approve
                      </Form.Label>
                      <Form.Control id="consent" autoComplete="off" value={name} onChange={(e) => setName(e.target.value)} />
                    </Form.Group>
                    {!may('administer') && (
                      <Alert variant="warning" className="mb-0">
                        This needs a token that may administer.
                      </Alert>
                    )}
                    <Button type="submit" id="submit" disabled={!ready}>
                      {submit.isPending ? 'Asking ...' : `Have it in force as revision ${spec.revision + 1}`}
                    </Button>
                  </>
                )}
                {submit.isError && (
                  <Alert variant="danger" className="mb-0">
                    {submit.error.message}
                  </Alert>
                )}
              </Card.Body>
            </Card>
          )}
          {!changed && (
            <Card>
              <Card.Header as="h2">Findings</Card.Header>
              <Card.Body>
                <Findings findings={status.findings} />
              </Card.Body>
            </Card>
          )}
          <Revisions now={spec.revision} onText={edit} />
        </div>
      </Form>
    </div>
  )
}

const MARKS = { both: ' ', old: '-', new: '+' } as const

function Difference({ before, after }: { before: string; after: string }) {
  const lines = differing(before, after)
  return (
    <Card>
      <Card.Header as="h2">What is different</Card.Header>
      <Card.Body>
        <pre className="difference small mb-0" id="difference">
          {lines.map((line, i) => (
            <div key={i} className={`line-${line.side}`}>
              {MARKS[line.side]} {line.text}
            </div>
          ))}
        </pre>
      </Card.Body>
    </Card>
  )
}

/** Each can be looked at, and be had in force again as a new one. */
function Revisions({ now, onText }: { now: number; onText: (text: string) => void }) {
  const revisions = useQuery({ queryKey: ['revisions', now], queryFn: () => read<PastRevision[]>('/spec/revisions') }).data ?? []
  const take = (number: number) => void read<RevisionReply>(`/spec/revisions/${number}`).then(({ text }) => onText(text))
  return (
    <Card>
      <Card.Header as="h2">Revisions</Card.Header>
      <Card.Body className="pt-1 table-responsive">
        <Table size="sm" className="mb-0" id="revisions">
          <Heads names={['', 'By', 'UTC', 'Why', '']} />
          <tbody>
            {revisions.map((r) => (
              <tr key={r.number}>
                <td>{r.number}</td>
                <td>{r.by}</td>
                <td className="text-nowrap">{r.at > 0 ? utc(r.at * 1000) : 'when it was formed'}</td>
                <td>{r.why}</td>
                <td>
                  {r.in_force ? (
                    'in force'
                  ) : (
                    <Button size="sm" variant="outline-secondary" onClick={() => take(r.number)}>
                      Take its text
                    </Button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      </Card.Body>
    </Card>
  )
}
