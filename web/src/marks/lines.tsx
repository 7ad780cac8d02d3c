import { Link } from 'react-router'
import type { Hop, HopState } from '../api/client'

/** Both lines of a device in miniature: power above, reach below, the break where it is. */
export function MiniLines({ power, reach, label }: { power: HopState[]; reach: HopState[]; label: string }) {
  return (
    <svg role="img" aria-label={label} width={92} height={22} viewBox="0 0 92 22" className="text-ink2 block">
      <MiniStrand hops={power} y={6} />
      <MiniStrand hops={reach} y={16} />
    </svg>
  )
}

const left = 5
const right = 87

function MiniStrand({ hops, y }: { hops: HopState[]; y: number }) {
  if (hops.length === 0) return null
  const step = hops.length > 1 ? (right - left) / (hops.length - 1) : 0
  const x = (i: number) => (hops.length > 1 ? left + i * step : left)
  return (
    <g fill="none" stroke="currentColor" strokeWidth={1.5}>
      {hops.map((h, i) => {
        if (i === 0) return null
        const from = x(i - 1) + 3
        const to = x(i) - 3
        const key = `s${i}`
        if (h === 'slack')
          return <path key={key} d={`M${from} ${y}H${to}`} className="stroke-rule2" strokeDasharray="2 2" />
        if (h === 'broken')
          return (
            <path
              key={key}
              d={`M${from} ${y}H${(from + to) / 2 - 2}M${(from + to) / 2} ${y + 2.5}L${(from + to) / 2 + 3} ${y - 2.5}`}
            />
          )
        return <path key={key} d={`M${from} ${y}H${to}`} strokeDasharray={h === 'unknown' ? '1.5 2' : undefined} />
      })}
      {hops.map((h, i) => {
        const key = `h${i}`
        if (h === 'broken') return <circle key={key} cx={x(i)} cy={y} r={2.8} className="stroke-hung" />
        if (h === 'slack') return <circle key={key} cx={x(i)} cy={y} r={2} className="fill-rule2 stroke-none" />
        if (h === 'unknown') return <circle key={key} cx={x(i)} cy={y} r={2.2} strokeDasharray="1.5 1.3" />
        return <circle key={key} cx={x(i)} cy={y} r={2.4} fill="currentColor" stroke="none" />
      })}
    </g>
  )
}

const states: Record<HopState, string> = {
  sound: 'sound',
  broken: 'broken here',
  slack: 'below the break',
  unknown: 'not known',
}

/** One strand in full: what the device hangs from, top to bottom, a telling number at each hop. */
export function Strand({ hops, self, below }: { hops: Hop[]; self: string; below?: string | undefined }) {
  return (
    <ol className="flex flex-col">
      {hops.map((h, i) => (
        <li key={`${h.device} ${h.label}`} className="relative min-h-11 pl-6">
          <HopKnot state={h.state} next={hops[i + 1]?.state ?? (below ? 'slack' : undefined)} />
          <div className="min-w-0 pb-2.5 leading-tight">
            <div
              className={`truncate font-semibold ${h.state === 'broken' ? 'text-hung' : h.state === 'slack' ? 'text-ink3' : ''}`}
            >
              {h.device && h.device !== self && h.label === h.device ? (
                <Link className="hover:underline" to={`/devices/${h.device}`}>
                  {h.label}
                </Link>
              ) : (
                h.label
              )}
            </div>
            <div className="text-[12px] text-ink2">
              {h.text}
              <span className="sr-only">, {states[h.state]}</span>
            </div>
          </div>
        </li>
      ))}
      {below && (
        <li className="relative pl-6 text-ink3">
          <HopKnot state="slack" next={undefined} />
          <div className="leading-tight">
            <div className="font-semibold">{below}</div>
            <div className="text-[12px]">cut off</div>
          </div>
        </li>
      )}
    </ol>
  )
}

function HopKnot({ state, next }: { state: HopState; next: HopState | undefined }) {
  const cord = next === 'slack' ? 'stroke-rule2' : 'stroke-ink2'
  return (
    <svg aria-hidden className="absolute top-0 left-0 h-full w-[14px] overflow-visible">
      {next &&
        (next === 'broken' ? (
          <>
            <line x1={7} y1={14} x2={7} y2="45%" className="stroke-ink2" strokeWidth={1.6} />
            <line x1={3} y1="62%" x2={11} y2="52%" className="stroke-hung" strokeWidth={1.6} />
            <line x1={7} y1="72%" x2={7} y2="100%" className="stroke-ink2" strokeWidth={1.6} />
          </>
        ) : (
          <line
            x1={7}
            y1={14}
            x2={7}
            y2="100%"
            className={cord}
            strokeWidth={1.6}
            strokeDasharray={next === 'slack' ? '3 3' : next === 'unknown' ? '1.5 3' : undefined}
          />
        ))}
      {state === 'sound' && <circle cx={7} cy={7} r={4.5} className="fill-ink2" />}
      {state === 'broken' && <circle cx={7} cy={7} r={5} className="fill-none stroke-hung" strokeWidth={2} />}
      {state === 'slack' && <circle cx={7} cy={7} r={4} className="fill-none stroke-rule2" strokeWidth={1.6} />}
      {state === 'unknown' && (
        <circle cx={7} cy={7} r={4.5} className="fill-none stroke-ink3" strokeWidth={1.6} strokeDasharray="2 2" />
      )}
    </svg>
  )
}
