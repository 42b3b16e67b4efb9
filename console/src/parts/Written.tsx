import { useStatus, useWallClock } from '../api/live'
import { useWritten } from '../api/queries'
import type { WrittenReply } from '../api/types'
import { bytes } from '../words'
import { Chart, type Mark } from './Chart'

type Span = WrittenReply['spans'][number]

/** As long ones as a screen can show apart; one of which nothing is known stays by itself. */
function merged(spans: Span[], ms: number): Span[] {
  const all: Span[] = []
  for (const span of spans) {
    const last = all.at(-1)
    if (last && last.ms < ms && last.bytes != null && span.bytes != null) all[all.length - 1] = { until_ms: span.until_ms, ms: last.ms + span.ms, bytes: last.bytes + span.bytes }
    else all.push(span)
  }
  return all
}

const unit = (value: number) => `${bytes(value)}/s`

/** What clients wrote in the last hour, with the moves of the primary marked: a pause is a gap that anybody can see. */
export function Written({ workload }: { workload: string }) {
  const known = useWritten(workload).data?.spans ?? []
  const spans = merged(known, Math.max(5_000, ((known.at(-1)?.until_ms ?? 0) - (known[0]?.until_ms ?? 0)) / 240))
  const { operations } = useStatus()
  const wall = useWallClock()
  const moves: Mark[] = operations
    .filter((o) => o.what.workload === workload && o.steps[0])
    .map((o) => ({ from: wall(o.steps[0]?.at ?? 0) / 1000, label: `op-${o.id}` }))
  const now = (spans.at(-1)?.until_ms ?? 0) / 1000
  // A daemon that started less than an hour ago knows less than an hour.
  const first = (spans[0]?.until_ms ?? 0) / 1000
  const values = spans.map((s) => (s.bytes == null || s.ms === 0 ? null : (s.bytes * 1000) / s.ms))
  return (
    <div data-writes={workload}>
      <div className="small quiet mb-1">log written per second in the last hour, UTC; a mark is a move of the primary</div>
      <Chart
        label={`what was written to ${workload} in the last hour`}
        times={spans.map((s) => s.until_ms / 1000)}
        lines={[{ label: 'written', values, fill: true }]}
        marks={moves}
        clock
        range={[Math.max(now - 3600, Math.min(first, now - 60)), now]}
        unit={unit}
      />
    </div>
  )
}
