import { useWindowVirtualizer } from '@tanstack/react-virtual'
import { memo, useLayoutEffect, useMemo, useRef, useState } from 'react'
import { Link } from 'react-router'
import type { Board, DeviceSummary, Site } from '../api/client'
import { MiniLines } from '../marks/lines'
import { ink, Mark, words } from '../marks/Mark'
import { type Picking, PickSite } from '../parts/picking'
import { Ago, watts } from '../parts/time'
import { Spark } from '../parts/ui'
import { inOrder, moved, sortedKeys } from './order'

/** While the list has the pointer or the focus, its order holds. */
function useHeldOrder(wanted: string[]) {
  const [held, setHeld] = useState(false)
  const order = useRef(wanted)
  const same = order.current.length === wanted.length && new Set([...order.current, ...wanted]).size === wanted.length
  if (!held || !same) order.current = wanted
  const events = {
    onPointerEnter: () => setHeld(true),
    onPointerLeave: () => setHeld(false),
    onFocus: () => setHeld(true),
    onBlur: () => setHeld(false),
  }
  const release = () => {
    order.current = wanted
    setHeld(false)
  }
  return { order: order.current, wouldMove: held ? moved(order.current, wanted) : 0, events, release }
}

/** From so many devices on, what is steady is folded away unless somebody opens it. */
const foldFrom = 100

/** Which sites are folded, as each person left it in this browser. */
function useFolding(many: boolean) {
  const [chosen, setChosen] = useState<Record<string, boolean>>(readFolding)
  return {
    folded: (site: string) => chosen[site] ?? many,
    set: (site: string, folded: boolean) => {
      const next = { ...chosen, [site]: folded }
      localStorage.setItem('folded', JSON.stringify(next))
      setChosen(next)
    },
  }
}

function readFolding(): Record<string, boolean> {
  try {
    const kept: unknown = JSON.parse(localStorage.getItem('folded') ?? '{}')
    return typeof kept === 'object' && kept !== null ? (kept as Record<string, boolean>) : {}
  } catch {
    return {}
  }
}

type RowsProps = { board: Board; devices: DeviceSummary[]; picking: Picking; whole: boolean }

export function Rows({ board, devices, picking, whole }: RowsProps) {
  const wanted = useMemo(() => sortedKeys(board.sites, devices), [board.sites, devices])
  const { order, wouldMove, events, release } = useHeldOrder(wanted)
  const groups = useMemo(() => inOrder(board.sites, devices, order), [board.sites, devices, order])
  const many = board.devices.length > foldFrom
  const folding = useFolding(many)
  const folded = (site: string) => !whole && folding.folded(site)
  const lines = groups.flatMap(({ site, rows }): Line[] => [
    { site, rows },
    ...rows.filter((d) => !folded(site.key) || d.verdict.state !== 'steady').map((device) => ({ site, rows, device })),
  ])
  return (
    <div className="relative mt-3" {...events}>
      {wouldMove > 0 && (
        <button
          type="button"
          onClick={release}
          className="absolute top-0 right-0 left-0 z-[5] mx-auto w-fit -translate-y-1/2 rounded-full border border-brass bg-panel px-3 py-0.5 text-[12px]"
        >
          {wouldMove} {wouldMove === 1 ? 'row' : 'rows'} would move. Sort now
        </button>
      )}
      <table className="w-full table-fixed border-collapse border border-rule bg-panel max-sm:block max-sm:border-x-0">
        <thead className="max-sm:sr-only">
          <tr className="h-7 text-left text-[12px] text-ink3 [&>th]:px-2.5 [&>th]:font-normal">
            <th className="w-[22%]">Device</th>
            <th className="w-[13%]">What it is</th>
            <th className="w-[112px] max-lg:hidden">Lines</th>
            <th className="w-[168px]">Draw</th>
            <th className="w-[12%] max-lg:hidden">Worst reading</th>
            <th className="w-[15%] max-lg:hidden">Ways in</th>
            <th>Last change</th>
          </tr>
        </thead>
        <Lines lines={lines} many={many} folded={folded} setFolded={folding.set} picking={picking} />
      </table>
    </div>
  )
}

type LinesProps = {
  lines: Line[]
  many: boolean
  folded: (site: string) => boolean
  setFolded: (site: string, folded: boolean) => void
  picking: Picking
}

/** A component of its own, because with many lines it is drawn anew with each step of scrolling. */
function Lines({ lines, many, folded, setFolded, picking }: LinesProps) {
  const view = useView(lines, many)
  return (
    <tbody ref={view.body} className="max-sm:block">
      <Room height={view.above} />
      {lines
        .slice(view.from, view.to)
        .map((line) =>
          line.device ? (
            <Row
              key={line.device.key}
              device={line.device}
              zone={line.site.zone}
              pick={picking.on ? picking.pick : undefined}
              picked={picking.keys.has(line.device.key)}
            />
          ) : (
            <SiteRow
              key={line.site.key}
              site={line.site}
              rows={line.rows}
              picking={picking}
              folded={folded(line.site.key)}
              setFolded={(f) => setFolded(line.site.key, f)}
            />
          ),
        )}
      <Room height={view.below} />
    </tbody>
  )
}

/** What is not drawn takes its room. */
const Room = ({ height }: { height: number }) =>
  height > 0 && <tr aria-hidden style={{ height }} className="max-sm:block" />

type Line = { site: Site; rows: DeviceSummary[]; device?: DeviceSummary }

const headHeight = 28
const rowHeight = () => Number.parseInt(getComputedStyle(document.documentElement).getPropertyValue('--row'), 10)

/** Which of the lines are drawn: all, or of many those near what can be seen; thousands would be slow everywhere. */
function useView(lines: Line[], many: boolean) {
  const body = useRef<HTMLTableSectionElement>(null)
  const [top, setTop] = useState(0)
  // What stands above the list comes and goes with each board, and so do its lines.
  // biome-ignore lint/correctness/useExhaustiveDependencies: they are what moves it
  useLayoutEffect(() => {
    if (many && body.current) setTop(body.current.getBoundingClientRect().top + window.scrollY)
  }, [many, lines])
  const row = useMemo(() => (many ? rowHeight() : 0), [many])
  const virtual = useWindowVirtualizer({
    count: lines.length,
    estimateSize: (i) => (lines[i]?.device ? row : headHeight),
    overscan: 8,
    scrollMargin: top,
    enabled: many,
  })
  const items = virtual.getVirtualItems()
  const first = items[0]
  const last = items.at(-1)
  if (!many || !first || !last) return { body, from: 0, to: many ? 0 : lines.length, above: 0, below: 0 }
  return {
    body,
    from: first.index,
    to: last.index + 1,
    above: first.start - top,
    below: virtual.getTotalSize() - (last.end - top),
  }
}

type SiteRowProps = {
  site: Site
  rows: DeviceSummary[]
  picking: Picking
  folded: boolean
  setFolded: (folded: boolean) => void
}

function SiteRow({ site: s, rows, picking, folded, setFolded }: SiteRowProps) {
  const steady = rows.filter((d) => d.verdict.state === 'steady').length
  return (
    <tr className="h-7 border-t border-rule bg-sunk max-sm:flex max-sm:items-center">
      <th
        colSpan={7}
        className="px-2.5 text-left font-normal text-ink3 max-sm:w-full max-sm:overflow-hidden max-sm:px-3.5 max-sm:whitespace-nowrap"
      >
        {picking.on && <PickSite site={s.key} devices={rows} picking={picking} />}
        <b className="mr-2 text-ink">{s.key}</b>
        {[s.kind, `${s.devices} devices`, watts(s.w)].filter(Boolean).join(' · ')}
        {steady > 0 && (
          <>
            {' · '}
            <button
              type="button"
              aria-expanded={!folded}
              className="underline decoration-rule2 underline-offset-2 hover:text-ink max-sm:min-h-11"
              onClick={() => setFolded(!folded)}
            >
              {folded ? (
                `show ${steady} steady`
              ) : (
                <>
                  fold <span className="max-sm:sr-only">what is </span>steady
                </>
              )}
            </button>
          </>
        )}
      </th>
    </tr>
  )
}

type RowProps = { device: DeviceSummary; zone: string; pick?: Picking['pick']; picked: boolean }

/** Drawn anew only when its device has changed. */
const Row = memo(function Row({ device: d, zone, pick, picked }: RowProps) {
  const healthy = d.verdict.state === 'steady'
  return (
    <tr className="relative h-(--row) border-t border-rule hover:bg-sunk max-sm:flex max-sm:items-center [&>td]:px-2.5 [&>td]:max-sm:px-3.5">
      <td className="max-sm:min-w-0 max-sm:flex-1">
        {pick && (
          <label className="absolute inset-0 z-[2] flex cursor-pointer items-center pl-2.5 max-sm:pl-3.5">
            <input type="checkbox" checked={picked} onChange={() => pick([d.key], !picked)} aria-label={d.key} />
          </label>
        )}
        <Link
          to={`/devices/${d.key}`}
          className={`flex items-center gap-2 after:absolute after:inset-0 ${pick ? 'pl-6' : ''}`}
        >
          <Mark state={d.verdict.state} size={19} alone={healthy} />
          <span className="min-w-0 truncate">
            <b className="font-semibold">{d.key}</b>
            {!healthy && (
              <span className={`ml-1.5 max-sm:hidden ${ink[d.verdict.state]}`}>{words(d.verdict.state)}</span>
            )}
            <span className={`block truncate sm:hidden ${healthy ? 'text-ink3' : ink[d.verdict.state]}`}>
              <LastChange device={d} zone={zone} />
            </span>
          </span>
        </Link>
      </td>
      <td className="truncate text-ink2 max-sm:hidden">
        {d.words}
        {d.atLine?.map((x) => (
          <span key={x.who + x.since} className="ml-2 text-[12px] text-brass">
            {x.who} {x.types ? 'types' : 'is'} on its line
          </span>
        ))}
        {d.atScreen?.map((x) => (
          <span key={x.who + x.since} className="ml-2 text-[12px] text-brass">
            {x.who} {x.types ? 'works' : 'is'} at its screen
          </span>
        ))}
      </td>
      <td className="max-lg:hidden">
        <MiniLines lines={d.lines} label={said(d)} />
      </td>
      <td className="max-sm:pl-0">
        <span className="flex items-center justify-between gap-2 max-sm:justify-end">
          <span className="max-sm:hidden">
            <Spark values={d.recent} tone={d.verdict.state === 'hung' ? 'text-hung' : 'text-ink3'} />
          </span>
          <span className="whitespace-nowrap">{watts(d.w)}</span>
        </span>
      </td>
      <td className="truncate max-lg:hidden">
        <Telling device={d} />
      </td>
      <td className="max-lg:hidden">
        <span className="flex gap-1">
          {waysOf(d).map((w) => (
            <span
              key={w.label}
              title={`${w.label}: ${w.text}`}
              className={`relative z-[1] rounded border px-1.5 text-[11.500px] ${w.state === 'broken' ? 'border-hung text-hung line-through' : w.kind === 'unswitched' ? 'border-dashed border-rule2 text-ink3' : 'border-rule2 text-ink2'}`}
            >
              {w.kind}
            </span>
          ))}
        </span>
      </td>
      <td className="truncate text-ink2 max-sm:hidden">
        <LastChange device={d} zone={zone} />
      </td>
    </tr>
  )
})

const level = { absent: 'text-ink3', fine: 'text-ink2', warning: 'text-strained', critical: 'text-hung font-semibold' }

/** The reading that says most, and how much is weak about the set-up. */
function Telling({ device: d }: { device: DeviceSummary }) {
  const t = d.telling
  const weak = d.weaknesses ?? 0
  return (
    <>
      {t && (
        <span className={level[t.level]} title={`${t.name}: ${t.text}`}>
          {t.level === 'fine' ? t.text : `${t.name} ${t.text}`}
        </span>
      )}
      {weak > 0 && (
        <span className="ml-2 text-[12px] text-strained" title="Weaknesses in its set-up: see its page">
          {weak} weak
        </span>
      )}
    </>
  )
}

const said = (d: DeviceSummary) =>
  `power line ${[...d.lines.power, ...(d.lines.second ?? [])].includes('broken') ? 'broken' : 'whole'}, reach line ${d.lines.reach.includes('broken') ? 'broken' : 'whole'}`

/** Each kind of way in once, the broken one of several of a kind. */
function waysOf(d: DeviceSummary) {
  const kinds = new Map<string, DeviceSummary['waysIn'][number]>()
  for (const w of d.waysIn) {
    if (!kinds.has(w.kind) || w.state === 'broken') kinds.set(w.kind, w)
  }
  return [...kinds.values()]
}

function LastChange({ device: d, zone }: { device: DeviceSummary; zone: string }) {
  const v = d.verdict
  if (v.state === 'cut-off' && v.cutBy) return <>cut off by {v.cutBy}</>
  if (v.state === 'steady') return <Ago at={v.since} zone={zone} />
  if (v.state === 'hung' || v.state === 'silent' || v.state === 'dark')
    return (
      <>
        {words(v.state)}, <Ago at={v.since} zone={zone} />
      </>
    )
  return <>{v.reasons[0]?.text ?? words(v.state)}</>
}
