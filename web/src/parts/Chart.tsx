import { useEffect, useMemo, useRef } from 'react'
import uPlot from 'uplot'
import 'uplot/dist/uPlot.min.css'
import { type Columns, type Curve, columns } from './gaps'

/** Something that happened, drawn as a line across the chart. */
/** Something that happened, in ms; what was wrong for a time is shaded. */
export type ChartMark = { at: number; text: string; wrongUntil?: number }

type Props = {
  curve: Curve
  unit: string
  zone: string
  /** The time that the chart covers, whatever is known of it. */
  from: string
  to: string
  marks?: ChartMark[]
  limits?: number[]
  /** Since when something is wrong, in ms. */
  wrongSince?: number | undefined
  /** A stretch of time was drawn over with the pointer, in ms. */
  onZoom?: (from: number, to: number) => void
}

/** A series over time: its mean as a line, and how far it went as a band behind that. */
export function Chart(props: Props) {
  const { curve, unit, zone, onZoom } = props
  const box = useRef<HTMLDivElement>(null)
  const chart = useRef<uPlot>(undefined)
  const extra = useRef(props)
  extra.current = props
  const data = useMemo(() => columns(curve), [curve])
  const latest = useRef<Columns>(data)
  latest.current = data
  const zoomable = onZoom !== undefined

  useEffect(() => {
    const el = box.current
    if (!el) return
    const build = () => {
      chart.current?.destroy()
      chart.current = new uPlot(
        options(el.clientWidth, unit, zone, zoomable, () => extra.current),
        latest.current,
        el,
      )
    }
    build()
    const size = new ResizeObserver(() => chart.current?.setSize({ width: el.clientWidth, height }))
    size.observe(el)
    // Colours are read when drawing, so a change of theme draws anew.
    const theme = new MutationObserver(build)
    theme.observe(document.documentElement, { attributes: true, attributeFilter: ['style'] })
    const dim = matchMedia('(prefers-color-scheme: dark)')
    dim.addEventListener('change', build)
    return () => {
      size.disconnect()
      theme.disconnect()
      dim.removeEventListener('change', build)
      chart.current?.destroy()
      chart.current = undefined
    }
  }, [unit, zone, zoomable])

  useEffect(() => chart.current?.setData(data), [data])

  const known = curve.mean.length > 0
  const said = known
    ? `Over time, between ${Math.min(...curve.min)} and ${Math.max(...curve.max)} ${unit}`
    : 'Nothing on record'
  return <div ref={box} role="img" aria-label={said} className="w-full" />
}

const height = 176

/** A CSS colour that canvas understands: light-dark() is resolved by an element. */
function resolved(name: string): string {
  const probe = document.createElement('span')
  probe.style.color = `var(--color-${name})`
  document.body.append(probe)
  const value = getComputedStyle(probe).color
  probe.remove()
  return value
}

/** Power, and what never falls below nothing, is drawn from nothing on. */
function bounds(unit: string, lo: number, hi: number): [number, number] {
  if (unit === 'W' || unit === '%' || (lo >= 0 && lo < hi * 0.6)) return [0, Math.max(hi * 1.15, 1)]
  const room = Math.max((hi - lo) * 0.2, Math.abs(hi) * 0.01, 0.1)
  return [lo - room, hi + room]
}

function options(width: number, unit: string, zone: string, zoomable: boolean, extra: () => Props): uPlot.Options {
  const ink = resolved('ink')
  const ink3 = resolved('ink3')
  const rule = resolved('rule')
  const font = '11.5px "Inter Variable", system-ui, sans-serif'
  return {
    width,
    height,
    legend: { show: false },
    cursor: { y: false, points: { size: 5 }, drag: { x: zoomable, y: false, setScale: false } },
    tzDate: (s) => uPlot.tzDate(new Date(s * 1000), zone),
    scales: {
      x: { range: () => [Date.parse(extra().from) / 1000, Date.parse(extra().to) / 1000] },
      y: {
        range: (_, lo, hi) => {
          const all = extra().limits ?? []
          return bounds(unit, Math.min(lo ?? 0, ...all), Math.max(hi ?? 1, ...all))
        },
      },
    },
    axes: [
      {
        stroke: ink3,
        font,
        grid: { show: false },
        ticks: { stroke: rule, size: 4 },
        values: times(zone),
        space: 70,
        size: 26,
      },
      {
        stroke: ink3,
        font,
        size: 58,
        grid: { stroke: rule, width: 1 },
        ticks: { show: false },
        values: (_, ticks) => ticks.map((t) => `${t} ${unit}`),
        space: 40,
      },
    ],
    series: [
      {},
      { stroke: 'transparent', points: { show: false } },
      { stroke: 'transparent', points: { show: false } },
      { stroke: ink, width: 1.4, points: { show: false }, spanGaps: false },
    ],
    bands: [{ series: [1, 2], fill: faint(ink) }],
    hooks: {
      draw: [(u) => drawMarks(u, extra())],
      setSelect: [
        (u) => {
          const { left, width: w } = u.select
          if (w > 8) extra().onZoom?.(u.posToVal(left, 'x') * 1000, u.posToVal(left + w, 'x') * 1000)
          u.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false)
        },
      ],
    },
  }
}

/** Hours within a day, days beyond. */
const times =
  (zone: string): uPlot.Axis.DynamicValues =>
  (_u, ticks, _axis, _space, incr) => {
    const form = uPlot.fmtDate(incr >= 86_400 ? '{D} {MMM}' : '{HH}:{mm}')
    return ticks.map((t) => form(uPlot.tzDate(new Date(t * 1000), zone)))
  }

function faint(colour: string): string {
  return colour.replace('rgb(', 'rgba(').replace(')', ', 0.14)')
}

function drawMarks(u: uPlot, { marks = [], limits = [], wrongSince }: Props) {
  const { ctx, bbox } = u
  const ratio = devicePixelRatio
  ctx.save()
  ctx.globalAlpha = 0.12
  ctx.fillStyle = resolved('hung')
  const right = bbox.left + bbox.width
  const shade = (since: number, until = right) => {
    const from = Math.max(bbox.left, u.valToPos(since / 1000, 'x', true))
    ctx.fillRect(from, bbox.top, Math.max(0, Math.min(right, until) - from), bbox.height)
  }
  if (wrongSince !== undefined) shade(wrongSince)
  for (const m of marks) if (m.wrongUntil) shade(m.at, u.valToPos(m.wrongUntil / 1000, 'x', true))
  ctx.globalAlpha = 1
  ctx.setLineDash([2 * ratio, 2 * ratio])
  ctx.strokeStyle = resolved('strained')
  for (const l of limits) {
    const y = u.valToPos(l, 'y', true)
    ctx.beginPath()
    ctx.moveTo(bbox.left, y)
    ctx.lineTo(bbox.left + bbox.width, y)
    ctx.stroke()
  }
  ctx.textAlign = 'left'
  ctx.font = `${11 * ratio}px "Inter Variable", system-ui, sans-serif`
  const taken: [number, number][] = [] // labels do not stand on each other; what is shaded can do without
  for (const m of [...marks].sort((a, b) => Number(!!a.wrongUntil) - Number(!!b.wrongUntil) || a.at - b.at)) {
    const x = u.valToPos(m.at / 1000, 'x', true)
    if (x < bbox.left || x > bbox.left + bbox.width) continue
    const colour = resolved(m.wrongUntil ? 'hung' : 'brass')
    ctx.strokeStyle = colour
    ctx.beginPath()
    ctx.moveTo(x, bbox.top)
    ctx.lineTo(x, bbox.top + bbox.height)
    ctx.stroke()
    const width = ctx.measureText(m.text).width
    const fits = x + width + 8 * ratio < bbox.left + bbox.width
    const left = fits ? x + 3 * ratio : x - width - 7 * ratio
    if (left < bbox.left || taken.some(([a, b]) => left < b && left + width > a)) continue
    taken.push([left - 6 * ratio, left + width + 6 * ratio])
    ctx.fillStyle = resolved('panel')
    ctx.fillRect(left, bbox.top, width + 4 * ratio, 15 * ratio)
    ctx.fillStyle = colour
    ctx.fillText(m.text, left + 2 * ratio, bbox.top + 11 * ratio)
  }
  ctx.restore()
}
