import { useEffect, useRef } from 'react'
import uPlot from 'uplot'
import 'uplot/dist/uPlot.min.css'
import { useTheme } from '../theme/theme'

/** A moment or a length of time on the axis. */
export type Mark = { from: number; to?: number; label: string; colour?: string }

type Line = { label: string; values: (number | null)[]; colour?: string; fill?: boolean }

type Props = {
  label: string
  /** Seconds; where `clock` is set those of the Unix epoch. */
  times: number[]
  lines: Line[]
  marks?: Mark[]
  clock?: boolean
  range?: [number, number]
  height?: number
  unit: (value: number) => string
  stepped?: boolean
}

/** As the theme has it now. */
const colour = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim()

/** The marks, drawn below the lines. */
const drawMarks = (marks: () => Mark[]) => (chart: uPlot) => {
  const { ctx, bbox } = chart
  ctx.save()
  ctx.font = `${13 * devicePixelRatio}px system-ui, sans-serif`
  let free = -Infinity
  for (const mark of [...marks()].sort((a, b) => a.from - b.from)) {
    const x = chart.valToPos(mark.from, 'x', true)
    if (x < bbox.left || x > bbox.left + bbox.width) continue
    ctx.fillStyle = colour(mark.colour ?? '--karst-stone')
    const wide = mark.to === undefined ? 2 * devicePixelRatio : Math.max(2 * devicePixelRatio, chart.valToPos(mark.to, 'x', true) - x)
    ctx.globalAlpha = mark.to === undefined ? 1 : 0.35
    ctx.fillRect(x, bbox.top, wide, bbox.height)
    ctx.globalAlpha = 1
    // A label that would lie on the one before it is left out; its mark stays.
    const width = ctx.measureText(mark.label).width + 12 * devicePixelRatio
    const fits = x + width < bbox.left + bbox.width
    if ((fits ? x : x - width) < free) continue
    free = fits ? x + width : x
    ctx.fillStyle = colour('--bs-body-color')
    ctx.textAlign = fits ? 'left' : 'right'
    ctx.fillText(mark.label, x + (fits ? 5 : -4) * devicePixelRatio, bbox.top + 13 * devicePixelRatio)
  }
  ctx.restore()
}

/** Where a few spikes would flatten all the rest, they leave the picture. */
function top(chart: uPlot): number {
  const known = chart.data.slice(1).flatMap((line) => [...(line as (number | null)[])]).filter((v) => v != null)
  const sorted = known.sort((a, b) => a - b)
  const [usual, most] = [sorted[Math.floor(sorted.length * 0.97)] ?? 0, sorted.at(-1) ?? 0]
  return Math.max((usual > 0 && most > 6 * usual ? 2 * usual : most) * 1.15, 1)
}

const sameUnit = (unit: (v: number) => string) => (_: uPlot, ticks: number[]) => ticks.map(unit)
/** UTC, as everything else on the page. */
const clockTime = (_: uPlot, ticks: number[]) => {
  const exact = (ticks[1] ?? 60) - (ticks[0] ?? 0) < 60
  return ticks.map((t) => new Date(t * 1000).toISOString().slice(11, exact ? 19 : 16))
}
const seconds = (_: uPlot, ticks: number[]) => ticks.map((t) => `${Number(t.toFixed(1))} s`)

/** Values over time; each line with a name, gaps where nothing is known. */
export function Chart({ label, times, lines, marks = [], clock = false, range, height = 132, unit, stepped = false }: Props) {
  const box = useRef<HTMLDivElement>(null)
  const chart = useRef<uPlot | null>(null)
  const newest = useRef({ marks, range, unit })
  const theme = useTheme()
  const names = lines.map((line) => line.label).join()
  useEffect(() => {
    newest.current = { marks, range, unit }
  }, [marks, range, unit])
  useEffect(() => {
    const holder = box.current
    if (!holder) return
    const axis = { stroke: colour('--bs-secondary-color'), grid: { stroke: colour('--karst-grid'), width: 1 }, ticks: { show: false }, font: '13px system-ui, sans-serif' }
    const made = new uPlot(
      {
        width: holder.clientWidth,
        height,
        tzDate: (at: number) => uPlot.tzDate(new Date(at * 1000), 'Etc/UTC'),
        legend: { show: false },
        cursor: { show: false },
        scales: {
          x: { time: clock, range: (_, low, high) => newest.current.range ?? [low ?? 0, high ?? 1] },
          y: { range: (self) => [0, top(self)] },
        },
        axes: [
          { ...axis, values: clock ? clockTime : seconds, space: 80, size: 28 },
          { ...axis, size: 80, space: 28, values: (self, ticks) => sameUnit(newest.current.unit)(self, ticks) },
        ],
        series: [
          {},
          ...lines.map((line) => ({
            label: line.label,
            stroke: colour(line.colour ?? '--karst-water'),
            ...(line.fill ? { fill: colour('--karst-water-fill') } : {}),
            ...(stepped ? { paths: uPlot.paths.stepped?.({ align: -1 }) } : {}),
            width: 2,
            spanGaps: false,
            points: { show: false },
          })),
        ],
        hooks: { drawClear: [drawMarks(() => newest.current.marks)] },
      } as uPlot.Options,
      [[], ...lines.map(() => [])] as uPlot.AlignedData,
      holder,
    )
    chart.current = made
    const resized = new ResizeObserver(() => made.setSize({ width: holder.clientWidth, height }))
    resized.observe(holder)
    return () => {
      resized.disconnect()
      made.destroy()
      chart.current = null
    }
    // A theme's colours and the lines' names are taken when it is made.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [theme, names, height, clock, stepped])
  useEffect(() => {
    chart.current?.setData([times, ...lines.map((line) => line.values)] as uPlot.AlignedData)
  })
  return <div ref={box} role="img" aria-label={label} />
}
