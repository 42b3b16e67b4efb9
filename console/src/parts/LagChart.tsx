import { useContext, useEffect, useState } from 'react'
import { LiveContext } from '../api/live'
import type { Workload } from '../api/types'
import { bytes } from '../words'
import { Chart } from './Chart'

const KEPT_S = 600
const COLOURS = ['--karst-water', '--karst-stone', '--bs-body-color', '--bs-secondary-color']

type Sample = { at: number; lags: Record<string, number | null> }

/** How far each standby is behind, since this page was opened. */
export function LagChart({ workload: w }: { workload: Workload }) {
  const { reply } = useContext(LiveContext)
  const [samples, setSamples] = useState<Sample[]>([])
  useEffect(() => {
    const take = () => {
      const at = Date.now() / 1000
      const lags = Object.fromEntries(w.replicas.filter((r) => r.node !== w.primary).map((r) => [r.node, r.lag ?? null]))
      setSamples((before) => [...before.filter((s) => s.at > at - KEPT_S), { at, lags }])
    }
    take()
    const timer = setInterval(take, 1000)
    return () => clearInterval(timer)
  }, [reply, w])
  const standbys = w.replicas.filter((r) => r.node !== w.primary).map((r) => r.node)
  if (standbys.length === 0) return null
  const lines = standbys.map((node, i) => ({ label: node, colour: COLOURS[i % COLOURS.length] ?? '--karst-water', values: samples.map((s) => s.lags[node] ?? null) }))
  return (
    <div>
      <div className="small quiet mb-1">
        behind the primary, since this page was opened:{' '}
        {lines.map((line) => (
          <span key={line.label} className="me-3 text-nowrap">
            <span className="swatch" style={{ background: `var(${line.colour})` }} />
            {line.label} {bytes(line.values.at(-1) ?? 0)}
          </span>
        ))}
      </div>
      <Chart label="how far each standby is behind" times={samples.map((s) => s.at)} lines={lines} clock height={110} unit={bytes} />
    </div>
  )
}
