import { Button, Card } from 'react-bootstrap'
import { Link } from 'react-router'
import { useActing } from '../act/acting'
import { useStatus } from '../api/live'
import type { Intent, IntentOver, Todo } from '../api/types'
import { authorName, utc } from '../words'
import { Shape } from './State'

/** What is done, and what the next one waits for. */
export function Todos({ todos }: { todos: Todo[] }) {
  return (
    <ol className="mb-0 ps-3" data-todos>
      {todos.map((todo) => (
        <li key={todo.text}>
          <Shape condition={todo.done ? 'healthy' : todo.waits ? 'recovering' : 'unknown'} /> {todo.text}
          {!todo.done && todo.waits && <div className="small quiet">{todo.waits}</div>}
        </li>
      ))}
    </ol>
  )
}

const ENDS: Partial<Record<Intent['kind'], string>> = { maintenance: 'End it ...', 'safety-point': 'Drop it ...' }

/** What somebody wants of the cluster as a whole, and how far that is. */
export function IntentCard({ intent }: { intent: Intent }) {
  const { open } = useActing()
  const ends = !intent.turned
  return (
    <Card data-intent={intent.id}>
      <Card.Header className="d-flex flex-wrap gap-3 align-items-center">
        <h2>
          <Link to={`/operations/${intent.id}`}>op-{intent.id}</Link>: {intent.title}
        </h2>
        <span className="fw-normal say">
          {authorName(intent.by)}, {utc(intent.at * 1000)} UTC{intent.why && `: ${intent.why}`}
          {intent.until != null && `; until ${utc(intent.until * 1000)} UTC`}
        </span>
        {ends && (
          <Button size="sm" variant="outline-primary" data-act="end" onClick={() => open({ act: 'end', operation: intent.id })}>
            {ENDS[intent.kind] ?? 'Take it back ...'}
          </Button>
        )}
      </Card.Header>
      <Card.Body>
        <Todos todos={intent.steps} />
      </Card.Body>
    </Card>
  )
}

export function Intents() {
  return useStatus().intents.map((intent) => <IntentCard key={intent.id} intent={intent} />)
}

const CAME_TO: Record<IntentOver['outcome']['result'], string> = { done: 'done', undone: 'ended before it was done', diverted: 'done otherwise' }

export function OverCard({ over }: { over: IntentOver }) {
  return (
    <Card data-over={over.id}>
      <Card.Header as="h1">
        op-{over.id}: {over.title}
      </Card.Header>
      <Card.Body>
        <p className="mb-0">
          {authorName(over.by)} wanted it at {utc(over.at * 1000)} UTC{over.why && `: ${over.why}`}. It is {CAME_TO[over.outcome.result]}
          {'why' in over.outcome && over.outcome.why ? `: ${over.outcome.why}` : ''}.
        </p>
      </Card.Body>
    </Card>
  )
}
