import { lazy, Suspense, useState } from 'react'
import type { HistoryMark, HistorySeries } from '../api/client'
import { useHistory, useSeries } from '../api/hooks'
import type { ChartMark } from '../parts/Chart'
import { At } from '../parts/time'
import { Card } from '../parts/ui'

const Chart = lazy(() => import('../parts/Chart').then((m) => ({ default: m.Chart })))

const spans = [
  { hours: 2, name: '2 h' },
  { hours: 24, name: '24 h' },
  { hours: 168, name: '7 days' },
  { hours: 720, name: '30 days' },
  { hours: 8760, name: 'a year' },
]

/** Any series of a device over any time, as a chart or as a table. */
export function HistoryCard({ device, zone }: { device: string; zone: string }) {
  const list = useSeries(device)
  const [name, setName] = useState<string>()
  const [hours, setHours] = useState(24)
  const [zoom, setZoom] = useState<{ from: number; to: number }>()
  const [asTable, setAsTable] = useState(false)
  const chosen = name ?? list.data?.find((s) => s.name === 'ups:charge')?.name ?? list.data?.[0]?.name
  const history = useHistory(device, chosen, hours, zoom)
  if (!list.data || list.data.length === 0) return null
  const series = history.data?.series[0]
  return (
    <Card
      title={
        <span className="flex flex-wrap items-center gap-x-2 gap-y-1">
          History of{' '}
          <select
            aria-label="Series"
            value={chosen}
            onChange={(e) => setName(e.target.value)}
            className="max-w-56 rounded border border-rule2 bg-panel px-1.5 py-0.5 text-ink"
          >
            {list.data.map((s) => (
              <option key={s.name} value={s.name}>
                {s.words}
              </option>
            ))}
          </select>
          {spans.map((s) => (
            <button
              key={s.hours}
              type="button"
              aria-pressed={hours === s.hours && !zoom}
              onClick={() => {
                setHours(s.hours)
                setZoom(undefined)
              }}
              className={`rounded px-1.5 py-0.5 ${hours === s.hours && !zoom ? 'bg-sunk font-semibold text-ink' : 'hover:text-ink'}`}
            >
              {s.name}
            </button>
          ))}
          {zoom && (
            <button type="button" className="rounded bg-sunk px-1.5 py-0.5 text-ink" onClick={() => setZoom(undefined)}>
              Zoom out
            </button>
          )}
        </span>
      }
      aside={
        <button type="button" className="underline" onClick={() => setAsTable(!asTable)}>
          {asTable ? 'As a chart' : 'As a table'}
        </button>
      }
    >
      {history.isError && <p className="text-hung">{history.error.message}</p>}
      {series && <Said series={series} zone={zone} />}
      {series && series.at.length === 0 && <p className="py-6 text-ink3">Nothing has been measured in this time.</p>}
      {series && series.at.length > 0 && !asTable && (
        <Suspense fallback={<div className="h-[176px]" />}>
          <Chart
            curve={{ ...series, stretchSeconds: history.data?.stretchSeconds ?? 60 }}
            unit={series.unit}
            zone={zone}
            from={history.data?.from ?? ''}
            to={history.data?.to ?? ''}
            limits={limitsOf(series)}
            marks={history.data?.marks.map((m) => markOf(m, history.data.to)) ?? []}
            onZoom={(from, to) => setZoom({ from, to })}
          />
        </Suspense>
      )}
      {series && asTable && <Table series={series} zone={zone} />}
      {!series && !history.isError && <div className="h-[176px]" />}
    </Card>
  )
}

/** What happened, as a chart marks it: there is room for a few words only. */
function markOf(m: HistoryMark, end: string): ChartMark {
  const text = m.text.length > 34 ? `${m.text.slice(0, 33)}…` : m.text
  const mark = { at: Date.parse(m.at), text }
  return m.kind === 'incident' ? { ...mark, wrongUntil: Date.parse(m.until ?? end) } : mark
}

function limitsOf(s: HistorySeries): number[] {
  const l = s.limits ?? {}
  return [l.lowCritical, l.lowWarning, l.highWarning, l.highCritical].filter((x): x is number => x !== undefined)
}

const digits = (v: number | undefined) => (v === undefined ? '–' : String(Math.round(v * 10) / 10))

function Said({ series: s, zone }: { series: HistorySeries; zone: string }) {
  return (
    <p className="mb-1 flex flex-wrap gap-x-3 text-[12px] text-ink3">
      <span>
        mean <b className="font-semibold text-ink">{`${digits(s.average)} ${s.unit}`}</b>
      </span>
      <span>
        peak <b className="font-semibold text-ink">{`${digits(s.peak)} ${s.unit}`}</b>{' '}
        {s.peakAt && <At at={s.peakAt} zone={zone} />}
      </span>
      {s.wh !== undefined && (
        <span>
          used <b className="font-semibold text-ink">{`${digits(s.wh / 1000)} kWh`}</b>
        </span>
      )}
      {s.measured !== undefined && s.measured < 0.97 && (
        <span>known for {Math.round(s.measured * 100)} % of this time</span>
      )}
    </p>
  )
}

function Table({ series: s, zone }: { series: HistorySeries; zone: string }) {
  return (
    <div className="max-h-80 overflow-y-auto">
      <table className="w-full border-collapse">
        <thead className="sticky top-0 bg-panel">
          <tr className="text-left text-[12px] text-ink3 [&>th]:py-1 [&>th]:pr-3 [&>th]:font-normal">
            <th>From</th>
            <th className="text-right">Least</th>
            <th className="text-right">Mean</th>
            <th className="text-right">Greatest</th>
          </tr>
        </thead>
        <tbody>
          {s.at.map((at, i) => (
            <tr key={at} className="border-t border-rule [&>td]:py-0.5 [&>td]:pr-3">
              <td>
                <time dateTime={new Date(at).toISOString()}>
                  {new Date(at).toLocaleString('en-GB', { timeZone: zone, dateStyle: 'medium', timeStyle: 'short' })}
                </time>
              </td>
              <td className="text-right">{`${digits(s.min[i])} ${s.unit}`}</td>
              <td className="text-right">{`${digits(s.mean[i])} ${s.unit}`}</td>
              <td className="text-right">{`${digits(s.max[i])} ${s.unit}`}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}
