import type { ReactNode } from 'react'
import { Link } from 'react-router'
import type { Hop, HopState, MiniLines as MiniLinesOf } from '../api/client'

/** A device with two feeds is as well off as the better of them. */
const better: HopState[] = ['sound', 'unknown', 'broken', 'slack']

const byGoodness = (a: HopState, b: HopState) => better.indexOf(a) - better.indexOf(b)

/** Both lines of a device in miniature: power above, reach below, the break where it is.
 * A second feed is a strand of its own, which meets the first at the device. */
export function MiniLines({ lines, label }: { lines: MiniLinesOf; label: string }) {
  const { power, second, reach } = lines
  const met = [power.at(-1), second?.at(-1)]
    .filter((s) => s !== undefined)
    .sort(byGoodness)
    .slice(0, 1)
  return (
    <svg role="img" aria-label={label} width={92} height={22} viewBox="0 0 92 22" className="text-ink2 block">
      <MiniStrand hops={[...power.slice(0, -1), ...met]} y={second ? 3 : 6} end={second ? 5.5 : 6} />
      {second && <MiniStrand hops={[...second.slice(0, -1), ...met]} y={8} end={5.5} />}
      <MiniStrand hops={reach} y={second ? 18.5 : 16} end={second ? 18.5 : 16} />
    </svg>
  )
}

const left = 5
const right = 87

/** One strand at a height, whose last hop, the device, is at its own. */
function MiniStrand({ hops, y: height, end }: { hops: HopState[]; y: number; end: number }) {
  if (hops.length === 0) return null
  const step = hops.length > 1 ? (right - left) / (hops.length - 1) : 0
  const x = (i: number) => (hops.length > 1 ? left + i * step : left)
  const at = (i: number) => (i === hops.length - 1 ? end : height)
  return (
    <g fill="none" stroke="currentColor" strokeWidth={1.5}>
      {hops.map((h, i) => {
        if (i === 0) return null
        const from = x(i - 1) + 3
        const to = x(i) - 3
        const key = `s${i}`
        const y = at(i - 1)
        const toY = at(i)
        if (h === 'slack')
          return <path key={key} d={`M${from} ${y}L${to} ${toY}`} className="stroke-rule2" strokeDasharray="2 2" />
        if (h === 'broken')
          return (
            <path
              key={key}
              d={`M${from} ${y}H${(from + to) / 2 - 2}M${(from + to) / 2} ${y + 2.5}L${(from + to) / 2 + 3} ${y - 2.5}`}
            />
          )
        return (
          <path key={key} d={`M${from} ${y}L${to} ${toY}`} strokeDasharray={h === 'unknown' ? '1.5 2' : undefined} />
        )
      })}
      {hops.map((h, i) => {
        const key = `h${i}`
        const y = at(i)
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

/** What a device hangs from, top to bottom, a telling number at each hop. Of several feeds
 * each is a strand of its own, and they meet at the device. */
export function Strands({ strands, self, below }: { strands: Hop[][]; self: string; below?: string | undefined }) {
  const ends = strands.map((s) => s[s.length - 1]).filter((h) => h !== undefined)
  const meeting = ends.reduce((best, h) => (byGoodness(h.state, best.state) < 0 ? h : best), ends[0] as Hop)
  const above = strands.flatMap((hops, lane) =>
    hops.slice(0, -1).map((hop, i) => ({ key: `${lane} ${i}`, lane, hop, next: hops[i + 1]?.state })),
  )
  const room = 24 + laneWidth * (strands.length - 1)
  return (
    <ol className="flex flex-col">
      {above.map((r) => (
        <HopRow key={r.key} hop={r.hop} self={self} room={room}>
          {ends.slice(0, r.lane).map((end, n) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: strands keep their place
            <Passing key={n} lane={n} state={end.state} />
          ))}
          <HopKnot lane={r.lane} state={r.hop.state} next={r.next} />
        </HopRow>
      ))}
      <HopRow hop={meeting} self={self} room={room}>
        {ends.slice(1).map((end, n) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: strands keep their place
          <Joining key={n} lane={n + 1} state={end.state} />
        ))}
        <HopKnot lane={0} state={meeting.state} next={below ? 'slack' : undefined} />
      </HopRow>
      {below && (
        <li className="relative text-ink3" style={{ paddingLeft: room }}>
          <Rail>
            <HopKnot lane={0} state="slack" next={undefined} />
          </Rail>
          <div className="leading-tight">
            <div className="font-semibold">{below}</div>
            <div className="text-[12px]">cut off</div>
          </div>
        </li>
      )}
    </ol>
  )
}

function HopRow({ hop: h, self, room, children }: { hop: Hop; self: string; room: number; children: ReactNode }) {
  return (
    <li className="relative min-h-11" style={{ paddingLeft: room }}>
      <Rail>{children}</Rail>
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
  )
}

const laneWidth = 14
const middle = (lane: number) => 7 + laneWidth * lane

/** Where the cords of one row are drawn. */
function Rail({ children }: { children: ReactNode }) {
  return (
    <svg aria-hidden className="absolute top-0 left-0 h-full w-[14px] overflow-visible">
      {children}
    </svg>
  )
}

/** How a cord to something looks, but for the break itself. */
const cord = (to: HopState) => ({
  className: to === 'slack' ? 'stroke-rule2' : 'stroke-ink2',
  strokeWidth: 1.6,
  strokeDasharray: to === 'slack' ? '3 3' : to === 'unknown' ? '1.5 3' : undefined,
})

/** A strand that runs past the hops of another on its way to the device. */
function Passing({ lane, state }: { lane: number; state: HopState }) {
  return <line x1={middle(lane)} y1={0} x2={middle(lane)} y2="100%" {...cord(state)} />
}

/** Where a further strand comes to the device. */
function Joining({ lane, state }: { lane: number; state: HopState }) {
  return <path fill="none" d={`M${middle(lane)} 0Q${middle(lane)} 7 ${middle(0) + 5} 7`} {...cord(state)} />
}

function HopKnot({ lane, state, next }: { lane: number; state: HopState; next: HopState | undefined }) {
  const x = middle(lane)
  return (
    <g>
      {next &&
        (next === 'broken' ? (
          <>
            <line x1={x} y1={14} x2={x} y2="45%" className="stroke-ink2" strokeWidth={1.6} />
            <line x1={x - 4} y1="62%" x2={x + 4} y2="52%" className="stroke-hung" strokeWidth={1.6} />
            <line x1={x} y1="72%" x2={x} y2="100%" className="stroke-ink2" strokeWidth={1.6} />
          </>
        ) : (
          <line x1={x} y1={14} x2={x} y2="100%" {...cord(next)} />
        ))}
      {state === 'sound' && <circle cx={x} cy={7} r={4.5} className="fill-ink2" />}
      {state === 'broken' && <circle cx={x} cy={7} r={5} className="fill-none stroke-hung" strokeWidth={2} />}
      {state === 'slack' && <circle cx={x} cy={7} r={4} className="fill-none stroke-rule2" strokeWidth={1.6} />}
      {state === 'unknown' && (
        <circle cx={x} cy={7} r={4.5} className="fill-none stroke-ink3" strokeWidth={1.6} strokeDasharray="2 2" />
      )}
    </g>
  )
}
