import { Link } from 'react-router'
import { useStatus } from '../api/live'
import { Shape, WritesWord } from '../parts/State'
import { authorName, utc } from '../words'

/** How the whole is, before anything else. What was not heard again for a while is no state of now. */
export function Band({ complete, stale }: { complete: boolean; stale: boolean }) {
  const status = useStatus()
  const { needs_you, workloads } = status
  const condition = stale ? 'unknown' : status.condition
  const sentence = stale ? `Not known now. The last word was: ${status.sentence}` : status.sentence
  const writes = stale ? ({ state: 'unknown' } as const) : status.writes
  const held = workloads.filter((w) => w.mode !== 'act')
  return (
    <section className={`band band-${condition}`} data-condition={condition} aria-label="state of the cluster">
      <div>
        <div className="word">
          <Shape condition={condition} /> {condition}
        </div>
        <div id="sentence">{sentence}</div>
        {held.map((w) => (
          <div key={w.workload} data-mode={w.mode}>
            mode <strong>{w.mode}</strong> for <Link to={`/workloads/${w.workload}`}>{w.workload}</Link>
            {w.mode_set && `, set by ${authorName(w.mode_set.by)} at ${utc(w.mode_set.at * 1000)} UTC`}
            {w.mode_set?.until != null && `, until ${utc(w.mode_set.until * 1000)} UTC`}
            {w.mode_set?.why && `: ${w.mode_set.why}`}
          </div>
        ))}
      </div>
      <dl className="facts" id="two-facts">
        <dt>writes</dt>
        <dd>
          <WritesWord writes={writes} />
        </dd>
        <dt>needs you</dt>
        <dd data-needs-you={needs_you.length}>
          <Shape condition={needs_you.length ? 'degraded' : complete && !stale ? 'healthy' : 'unknown'} />{' '}
          {needs_you.length ? `yes: ${needs_you.length === 1 ? 'one thing' : `${needs_you.length} things`}` : complete && !stale ? 'no' : 'not known here'}
        </dd>
      </dl>
    </section>
  )
}
