import { useWallClock } from '../api/live'
import type { Operation } from '../api/types'
import { utc } from '../words'

/** The steps of an operation as they happen, with the time since the first. */
export function Steps({ operation }: { operation: Operation }) {
  const wall = useWallClock()
  const begin = operation.steps[0]?.at ?? 0
  return (
    <ol id="steps" className="list-unstyled mb-0" aria-live="polite">
      {operation.steps.map((step, i) => (
        <li key={`${step.kind} ${i}`} data-kind={step.kind} className="d-flex gap-3">
          <span className="text-end text-nowrap quiet" style={{ minWidth: 84 }} title={`${utc(wall(step.at), true)} UTC`}>
            {Math.round((step.at - begin) / 1e6)} ms
          </span>
          <span className="grow">{step.text}</span>
        </li>
      ))}
    </ol>
  )
}
