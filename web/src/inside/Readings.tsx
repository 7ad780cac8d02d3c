import type { Sensor } from '../api/client'
import { useSensors } from '../api/hooks'
import { isWrong } from '../parts/say'
import { At } from '../parts/time'
import { Card } from '../parts/ui'

/** What the sensors of a device measure: what is wrong first, then by kind. */
export function Readings({ device, zone }: { device: string; zone: string }) {
  const sensors = useSensors(device)
  const list = sensors.data?.sensors ?? []
  const groups = grouped(list.filter((s) => s.value !== undefined))
  const states = list.filter((s) => s.value === undefined && s.level !== 'absent')
  const absent = list.filter((s) => s.level === 'absent').length
  return (
    <Card
      title="Readings"
      aside={
        sensors.data?.at && (
          <span className={sensors.data.fresh ? '' : 'font-semibold text-hung'}>
            {sensors.data.fresh ? 'read' : 'stale: read'} <At at={sensors.data.at} zone={zone} />
          </span>
        )
      }
    >
      {sensors.isPending && <p className="text-ink3">Loading the readings…</p>}
      {sensors.isError && <p className="text-hung">{sensors.error.message}</p>}
      {sensors.data && list.length === 0 && (
        <p className="text-ink3">Its sensors have not been read yet: that takes a moment after the start.</p>
      )}
      <div className="grid grid-cols-2 gap-x-8 gap-y-4 max-md:grid-cols-1">
        {groups.map(([kind, members]) => (
          <section key={kind} className={kind === wrong ? 'col-span-full' : ''}>
            <h3 className={`mb-1 text-[12px] ${kind === wrong ? 'font-semibold text-hung' : 'text-ink3'}`}>{kind}</h3>
            {members.map((s) => (
              <Bar key={s.series} sensor={s} />
            ))}
          </section>
        ))}
      </div>
      <States states={states} absent={absent} />
    </Card>
  )
}

const wrong = 'out of bounds'

/** Kinds in the order of their first sensor, with what is out of bounds first. */
export function grouped(list: Sensor[]): [string, Sensor[]][] {
  const groups = new Map<string, Sensor[]>()
  const bad = list.filter(isWrong).sort((a, b) => (a.level === b.level ? 0 : a.level === 'critical' ? -1 : 1))
  if (bad.length > 0) groups.set(wrong, bad)
  for (const s of list) {
    if (!isWrong(s)) groups.set(s.kind, [...(groups.get(s.kind) ?? []), s])
  }
  return [...groups]
}

const tone: Record<Sensor['level'], string> = {
  absent: 'text-ink3',
  fine: 'text-ink2',
  warning: 'text-strained',
  critical: 'text-hung',
}

const width = 120
const height = 16

/** The range that a bar covers: the thresholds with room on both sides. */
export function range(s: Sensor): [number, number] {
  const l = s.limits ?? {}
  const marks = [l.lowFatal, l.lowCritical, l.lowWarning, l.highWarning, l.highCritical, l.highFatal].filter(
    (x): x is number => x !== undefined,
  )
  const all = [...marks, ...(s.past ?? []), s.value ?? 0]
  let lo = Math.min(...all)
  let hi = Math.max(...all)
  if (marks.length === 0) lo = Math.min(0, lo)
  const room = Math.max((hi - lo) * 0.12, 10 ** -s.digits)
  if (l.highWarning === undefined && l.highCritical === undefined) hi += room
  if (lo > 0 && l.lowWarning === undefined && l.lowCritical === undefined) lo = Math.min(lo, Math.max(0, lo - room * 3))
  return [lo - (marks.length > 0 ? room * 0.4 : 0), hi + room * 0.4]
}

/** A reading within its thresholds, with the last hours behind it. */
function Bar({ sensor: s }: { sensor: Sensor }) {
  const [lo, hi] = range(s)
  const x = (v: number) => Math.max(0, Math.min(width, ((v - lo) / (hi - lo || 1)) * width))
  const l = s.limits ?? {}
  const past = s.past ?? []
  const y = (v: number) => height - 1 - ((v - lo) / (hi - lo || 1)) * (height - 2)
  return (
    <div className="grid grid-cols-[1fr_auto_5.5rem] items-center gap-3 py-[3px]">
      <span className="truncate" title={[s.name, s.where].filter(Boolean).join(', ')}>
        {s.name}
      </span>
      <svg
        width={width}
        height={height}
        role="img"
        aria-label={`${s.text}, ${s.level}`}
        className={tone[s.level]}
        viewBox={`0 0 ${width} ${height}`}
      >
        <rect width={width} height={height} rx={2} className="fill-sunk" />
        {l.lowWarning !== undefined && <rect width={x(l.lowWarning)} height={height} className="fill-rule" />}
        {l.highWarning !== undefined && (
          <rect x={x(l.highWarning)} width={width - x(l.highWarning)} height={height} className="fill-rule" />
        )}
        {past.length > 1 && (
          <polyline
            points={past.map((v, i) => `${(i / (past.length - 1)) * width},${y(v)}`).join(' ')}
            fill="none"
            className="stroke-ink3"
            strokeWidth={0.8}
            opacity={0.6}
          />
        )}
        {[l.lowCritical, l.highCritical].map(
          (v) =>
            v !== undefined && (
              <line key={v} x1={x(v)} x2={x(v)} y1={0} y2={height} className="stroke-ink3" strokeWidth={1} />
            ),
        )}
        <rect
          x={Math.min(width - 3, Math.max(0, x(s.value ?? 0) - 1.5))}
          width={3}
          height={height}
          fill="currentColor"
        />
      </svg>
      <span className={`text-right whitespace-nowrap ${isWrong(s) ? `font-semibold ${tone[s.level]}` : ''}`}>
        {s.text}
      </span>
    </div>
  )
}

function States({ states, absent }: { states: Sensor[]; absent: number }) {
  const bad = states.filter(isWrong)
  const rest = states.filter((s) => !isWrong(s))
  return (
    <>
      {bad.length > 0 && (
        <ul className="mt-3">
          {bad.map((s) => (
            <li key={s.series} className={`font-semibold ${tone[s.level]}`}>
              {s.name}: {s.text}
            </li>
          ))}
        </ul>
      )}
      {rest.length > 0 && (
        <details className="mt-3">
          <summary className="cursor-pointer text-ink2">
            {rest.length} more with states, none of them wrong{absent > 0 && `; ${absent} not measured now`}
          </summary>
          <dl className="mt-2 grid grid-cols-[auto_1fr] gap-x-4 gap-y-1">
            {rest.map((s) => (
              <div key={s.series} className="contents">
                <dt>{s.name}</dt>
                <dd className="text-ink2">{s.text}</dd>
              </div>
            ))}
          </dl>
        </details>
      )}
    </>
  )
}
