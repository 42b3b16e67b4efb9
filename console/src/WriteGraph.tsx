import { useContext, useEffect, useRef } from 'react'
import { Card } from 'react-bootstrap'
import uPlot from 'uplot'
import 'uplot/dist/uPlot.min.css'
import type { Workload } from './api'
import { Stale } from './useLive'

const SECONDS = 60
const PER_SECOND = 2
const POINTS = SECONDS * PER_SECOND

/** As the theme has it now. */
const colour = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim()

/** Where the log of the open primary ends; none while nobody serves. */
function written(w: Workload): number | null {
  return w.replicas.find((r) => r.node === w.primary)?.server?.position?.number ?? null
}

/** In kB/s over a second; none where it is not known how far the log went before. While nobody serves, nobody writes. */
function rate(before: number | null, now: number | null): number | null {
  if (now === null) return 0
  // A new primary goes on where the old one ended, or a little before.
  return before === null ? null : Math.max(0, now - before) / 1000
}

/** How much the clients have written, second by second: a pause is a gap that anybody can see. */
export function WriteGraph({ workload }: { workload: Workload }) {
  const box = useRef<HTMLDivElement>(null)
  const stale = useContext(Stale)
  const newest = useRef({ workload, stale })
  useEffect(() => {
    newest.current = { workload, stale }
  }, [workload, stale])

  useEffect(() => {
    const holder = box.current
    if (!holder) return
    const width = () => holder.clientWidth
    const times = Array.from({ length: POINTS }, (_, i) => (i - POINTS + 1) / PER_SECOND)
    let rates: (number | null)[] = times.map(() => null)
    // A calm server is looked at once in a second: what was written between two looks counts for all of that second.
    let before = Array.from({ length: PER_SECOND }, () => written(newest.current.workload))
    const chart = new uPlot(
      {
        width: width(),
        height: 120,
        legend: { show: false },
        cursor: { show: false },
        scales: { x: { time: false }, y: { range: (_, __, most) => [0, Math.max(most ?? 0, 1)] } },
        axes: [
          { stroke: () => colour('--bs-body-color'), values: (_, ticks) => ticks.map((t) => (t === 0 ? 'now' : `${t} s`)) },
          { stroke: () => colour('--bs-body-color'), size: 80, values: (_, ticks) => ticks.map((t) => `${t} kB/s`) },
        ],
        series: [{}, { stroke: () => colour('--water'), fill: () => colour('--water-fill'), width: 2, spanGaps: false, points: { show: false } }],
      },
      [times, rates],
      holder,
    )
    const tick = setInterval(() => {
      const { workload, stale } = newest.current
      const now = stale ? null : written(workload)
      rates = [...rates.slice(1), stale ? null : rate(before[0] ?? null, now)]
      before = [...before.slice(1), stale ? null : (now ?? before.at(-1) ?? null)]
      chart.setData([times, rates])
    }, 1000 / PER_SECOND)
    const resized = new ResizeObserver(() => chart.setSize({ width: width(), height: 120 }))
    resized.observe(holder)
    return () => {
      clearInterval(tick)
      resized.disconnect()
      chart.destroy()
    }
  }, [])

  return (
    <Card data-writes={workload.workload}>
      <Card.Header>
        Written to <strong>{workload.workload}</strong>, last minute
      </Card.Header>
      <Card.Body className="p-1">
        <div ref={box} />
      </Card.Body>
    </Card>
  )
}
