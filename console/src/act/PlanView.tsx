import { Alert } from 'react-bootstrap'
import type { IntentPlan, Plan } from '../api/types'
import { Shape } from '../parts/State'
import { bytes, span } from '../words'

/** The largest number stands for nobody knows how much. */
const atRisk = (n: number) => (n > Number.MAX_SAFE_INTEGER ? 'an unknown amount' : bytes(n))

export function StepsOf({ steps }: { steps: string[] }) {
  return (
    <div>
      <h3>Steps</h3>
      <ol className="mb-0 ps-3">
        {steps.map((step) => (
          <li key={step}>{step}</li>
        ))}
      </ol>
    </div>
  )
}

/** What an intent would take, what it costs, and what stands in its way. */
export function IntentPlanView({ plan }: { plan: IntentPlan }) {
  return (
    <>
      {plan.unmet.map((why) => (
        <Alert key={why} variant="warning" className="mb-0">
          {why}
        </Alert>
      ))}
      <StepsOf steps={plan.steps.map((step) => (step.done ? `${step.text} (is so)` : step.text))} />
      {plan.consequences.length > 0 && (
        <div>
          <h3>What follows</h3>
          <ul className="mb-0 ps-3">
            {plan.consequences.map((text) => (
              <li key={text}>{text}</li>
            ))}
          </ul>
        </div>
      )}
      {plan.given_up != null && (
        <div id="given-up">
          It gives up <strong>{atRisk(plan.given_up)}</strong> of log, as of now.
        </div>
      )}
    </>
  )
}

/** What a move would do, what it needs, and what it costs. */
export function MovePlan({ plan }: { plan: Plan }) {
  return (
    <div className="stack" style={{ gap: 12 }} id="plan">
      <div>
        From <strong>{plan.from ?? 'nobody'}</strong> to <strong>{plan.to ?? 'nobody'}</strong>. Writes pause for about {span(plan.pause.usual_ms)},{' '}
        {span(plan.pause.longest_ms)} at most. Data at risk: <strong>{plan.data_at_risk === 0 ? 'none' : atRisk(plan.data_at_risk)}</strong>.
      </div>
      <div>
        <h3>It needs</h3>
        {plan.preconditions.map((p) => (
          <div key={p.text} data-met={p.unmet == null}>
            <Shape condition={p.unmet == null ? 'healthy' : 'down'} /> {p.text}: {p.unmet == null ? 'met' : `not met, ${p.unmet}`}
          </div>
        ))}
      </div>
      <StepsOf steps={plan.steps} />
      {plan.candidates.some((c) => c.excluded != null) && (
        <div>
          <h3>Who may not take over</h3>
          {plan.candidates
            .filter((c) => c.excluded != null)
            .map((c) => (
              <div key={c.node}>
                {c.node}: {c.excluded}
              </div>
            ))}
        </div>
      )}
    </div>
  )
}
