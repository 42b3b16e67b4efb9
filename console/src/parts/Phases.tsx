import type { Operation } from '../api/types'
import { span } from '../words'

export const total = (phases: Operation['phases']) => phases.reduce((sum, p) => sum + p.ms, 0)

/** Where the time went: one bar from the loss on, with the longest that it may take where that is known. */
export function Phases({ phases, worst }: { phases: Operation['phases']; worst?: number | null | undefined }) {
  if (phases.length === 0) return null
  const all = total(phases)
  const axis = Math.max(all, worst ?? 0)
  return (
    <div id="phases">
      <div style={{ position: 'relative', paddingTop: worst ? 20 : 0 }}>
        <div className="phases" role="img" aria-label={phases.map((p) => `${p.phase} ${p.ms.toFixed(1)} ms`).join(', ')}>
          {phases.map((p, i) => (
            <div key={p.phase} className={`phase-${i}`} style={{ width: `${(p.ms / axis) * 100}%`, minWidth: p.ms > 0 ? 2 : 0 }} />
          ))}
        </div>
        {worst != null && (
          <div className="small quiet" style={{ position: 'absolute', right: 0, top: 0, bottom: 0, borderRight: '3px solid var(--bs-body-color)', paddingRight: 6 }}>
            {span(worst)} at most
          </div>
        )}
      </div>
      <div className="d-flex flex-wrap gap-3 mt-2 small">
        <strong>{span(all)} in all</strong>
        {phases.map((p, i) => (
          <span key={p.phase} className="text-nowrap">
            <span className={`swatch phase-${i}`} />
            {p.phase.replace('-', ' ')} {p.ms.toFixed(p.ms < 10 ? 1 : 0)} ms
          </span>
        ))}
      </div>
    </div>
  )
}
