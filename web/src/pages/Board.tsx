import { memo, useMemo, useRef, useState } from 'react'
import { Link, useSearchParams } from 'react-router'
import type { Board, DeviceSummary, ServiceAilment, Site, Trouble, VerdictState } from '../api/client'
import { useBoard } from '../api/hooks'
import { MiniLines } from '../marks/lines'
import { ink, Mark, words, wrongFirst } from '../marks/Mark'
import { PickedBar, type Picking, PickSite, Underway, usePicking } from '../parts/picking'
import { actionName, actionsFor, capital, diagnosis, switchedOutlets } from '../parts/say'
import { Ago, age, clock, useNow, watts } from '../parts/time'
import { Button, Loading, Spark, Wrong } from '../parts/ui'

export function BoardPage() {
  const board = useBoard()
  if (board.isPending) return <Loading what="the board" />
  if (board.isError) return <Wrong error={board.error} retry={() => void board.refetch()} />
  if (board.data.devices.length === 0) return <NoEstate />
  return <Loaded board={board.data} />
}

function NoEstate() {
  return (
    <div className="max-w-prose p-5">
      <h1 className="text-[21px] font-semibold">There is no estate yet</h1>
      <p className="mt-2">
        Write down what is to be looked after in a file, and bring it in with{' '}
        <code className="font-mono">plumb estate import FILE</code>. The operator's guide has an example.
      </p>
    </div>
  )
}

function Loaded({ board }: { board: Board }) {
  const [params, setParams] = useSearchParams()
  const only = (params.get('verdict')?.split(',') ?? []) as VerdictState[]
  const toggle = (s: VerdictState) =>
    setParams((old) => {
      const next = only.includes(s) ? only.filter((x) => x !== s) : [...only, s]
      if (next.length > 0) old.set('verdict', next.join(','))
      else old.delete('verdict')
      return old
    })
  const picking = usePicking(board.devices)
  const shown = board.devices.filter((d) => only.length === 0 || only.includes(d.verdict.state))
  const sites = board.sites.length === 1 ? '1 site' : `${board.sites.length} sites`
  return (
    <div className="px-5 py-3.5 max-sm:px-0">
      <h1 className="sr-only">{board.estate}</h1>
      <div className="flex flex-wrap items-center gap-2.5 max-sm:flex-nowrap max-sm:overflow-x-auto max-sm:px-3.5">
        <Counts devices={board.devices} only={only} onToggle={toggle} />
        <span className="ml-auto text-ink3 max-lg:hidden">
          {board.devices.length} devices, {sites}
        </span>
        <Button className="shrink-0" aria-pressed={picking.on} onClick={picking.toggle}>
          {picking.on ? 'Select none' : 'Select several'}
        </Button>
      </div>
      <Underway />
      <Troubles board={board} />
      <Rows board={board} devices={shown} picking={picking} whole={only.includes('steady')} />
      <PickedBar picking={picking} />
      {shown.length === 0 && <p className="p-4 text-ink2 max-sm:px-3.5">No device is like that now.</p>}
    </div>
  )
}

function Counts({
  devices,
  only,
  onToggle,
}: {
  devices: DeviceSummary[]
  only: VerdictState[]
  onToggle: (s: VerdictState) => void
}) {
  const order: VerdictState[] = ['hung', 'dark', 'cut-off', 'strained', 'waking', 'parked', 'unknown', 'steady']
  const count = (s: VerdictState) => devices.filter((d) => d.verdict.state === s).length
  return order.map((s) => {
    const n = count(s)
    const on = only.includes(s)
    if (n === 0 && !on && s !== 'steady') return null
    return (
      <button
        key={s}
        type="button"
        aria-pressed={on}
        onClick={() => onToggle(s)}
        className={`flex h-8 shrink-0 items-center gap-1.5 rounded-md border bg-panel px-2.5 max-sm:h-10 ${on ? 'border-brass' : 'border-rule hover:border-rule2'}`}
      >
        <Mark state={s} size={19} />
        <b>{n}</b>
        <span className="max-sm:sr-only">{words(s)}</span>
      </button>
    )
  })
}

const inFull = 3

/** What is wrong, by cause: three in full, then a count. */
function Troubles({ board }: { board: Board }) {
  const loud = board.trouble.filter((t) => !t.shelvedUntil)
  const rest = loud.length - inFull
  const shelved = board.trouble.length - loud.length
  return (
    <div className="mt-3 flex flex-col gap-2 empty:hidden max-sm:px-3.5">
      {board.service.length > 0 && <Ailing list={board.service} />}
      {loud.slice(0, inFull).map((t) => (
        <TroublePanel key={t.device} trouble={t} board={board} />
      ))}
      {rest > 0 && <p className="px-1 text-ink2">And {rest} more, in the list below.</p>}
      {shelved > 0 && (
        <Link to="/incidents" className="px-1 text-ink2 hover:underline">
          {shelved} on the shelf.
        </Link>
      )}
    </div>
  )
}

/** What ails the service itself: then its records, or this board, may lack something. */
function Ailing({ list }: { list: ServiceAilment[] }) {
  const grave = list.some((a) => a.grave)
  return (
    <section
      aria-label="What ails the service"
      className={`rounded-md border border-rule border-l-4 bg-panel px-3 py-2 ${grave ? 'border-l-hung' : 'border-l-strained'}`}
    >
      <h2 className="font-semibold">The service itself is not well</h2>
      <ul>
        {list.slice(0, inFull).map((a) => (
          <li key={a.name} className={a.grave ? '' : 'text-ink2'}>
            {capital(a.text)}.
          </li>
        ))}
      </ul>
      {list.length > inFull && <p className="text-ink2">And {list.length - inFull} more: plumb board lists them.</p>}
    </section>
  )
}

const edge: Record<VerdictState, string> = {
  hung: 'border-l-hung',
  dark: 'border-l-dark',
  strained: 'border-l-strained',
  waking: 'border-l-waking',
  'cut-off': 'border-l-cutoff',
  unknown: 'border-l-unknown',
  parked: 'border-l-parked',
  steady: 'border-l-steady',
}

function TroublePanel({ trouble: t, board }: { trouble: Trouble; board: Board }) {
  const now = useNow()
  const d = board.devices.find((x) => x.key === t.device)
  const zone = zoneOf(board, d?.site)
  const n = t.explains.length
  // What is strained needs somebody to look at it, not to switch it.
  const act = d && t.verdict.state !== 'strained' ? actionsFor(d)[0] : undefined
  const busy = t.verdict.state === 'waking'
  return (
    <section
      className={`flex items-center gap-4 rounded-lg border border-rule2 border-l-4 bg-panel px-4 py-3 max-sm:flex-col max-sm:items-stretch ${edge[t.verdict.state]}`}
    >
      <div className="min-w-0 flex-1">
        <h2 className="flex flex-wrap items-center gap-x-2 text-[15px]">
          <Mark state={t.verdict.state} size={22} />
          <Link className="font-bold hover:underline" to={`/devices/${t.device}`}>
            {t.device} is {words(t.verdict.state)}
          </Link>
          <span className="text-ink3">
            since {clock(t.verdict.since, zone, now)}, {age(now - Date.parse(t.verdict.since))} ago
          </span>
        </h2>
        <p className="mt-1 text-ink2">
          {diagnosis(t.verdict, zone, now)}
          {n > 0 && ` Explains ${n} cut-off ${n === 1 ? 'device' : 'devices'}.`}
          {t.incident && ' '}
          {t.incident && (
            <Link to="/incidents" className="text-ink3 hover:underline">
              {t.seenBy ? `${t.seenBy} sees to it` : 'Nobody sees to it yet'}
            </Link>
          )}
        </p>
      </div>
      {d && act && !busy && (
        <Link
          to={`?act=${act.kind}&on=${d.key}`}
          className="inline-flex min-h-8 shrink-0 items-center justify-center rounded-md border border-ink bg-ink px-3 font-medium text-panel hover:opacity-90 max-sm:min-h-11"
        >
          {actionName(act.kind, act.means, switchedOutlets(d))}…
        </Link>
      )}
    </section>
  )
}

const zoneOf = (board: Board, site: string | undefined) => board.sites.find((s) => s.key === site)?.zone ?? 'UTC'

const rank = (d: DeviceSummary) => wrongFirst.indexOf(d.verdict.state)

/** The devices of each site, what is wrong first; the sites where something is wrong first. One pass over all. */
export function bySite(sites: Site[], devices: DeviceSummary[]): { site: Site; rows: DeviceSummary[] }[] {
  const groups = new Map(sites.map((site) => [site.key, { site, ranks: wrongFirst.map((): DeviceSummary[] => []) }]))
  for (const d of devices) groups.get(d.site)?.ranks[rank(d)]?.push(d)
  return [...groups.values()]
    .map((g) => ({ site: g.site, rows: g.ranks.flat(), worst: g.ranks.findIndex((r) => r.length > 0) }))
    .sort((x, y) => (x.worst < 0 ? Infinity : x.worst) - (y.worst < 0 ? Infinity : y.worst))
    .map(({ site, rows }) => ({ site, rows }))
}

/** What is shown of each row's order: the keys, site by site. */
export const sortedKeys = (sites: Site[], devices: DeviceSummary[]): string[] =>
  bySite(sites, devices).flatMap((g) => g.rows.map((d) => d.key))

/** How many rows are somewhere else in the new order. */
export function moved(held: string[], wanted: string[]): number {
  return held.filter((k, i) => wanted[i] !== k).length
}

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
/** So many rows of a site are drawn at first; a page of thousands would be slow on a phone. */
const atFirst = 100

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

function Rows({ board, devices, picking, whole }: RowsProps) {
  const wanted = useMemo(() => sortedKeys(board.sites, devices), [board.sites, devices])
  const { order, wouldMove, events, release } = useHeldOrder(wanted)
  const groups = useMemo(() => inOrder(board.sites, devices, order), [board.sites, devices, order])
  const folding = useFolding(board.devices.length > foldFrom)
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
        {groups.map(({ site, rows }) => (
          <SiteRows
            key={site.key}
            site={site}
            rows={rows}
            picking={picking}
            folded={!whole && folding.folded(site.key)}
            setFolded={(f) => folding.set(site.key, f)}
          />
        ))}
      </table>
    </div>
  )
}

/** The sites and their devices in an order that is held. */
function inOrder(sites: Site[], devices: DeviceSummary[], order: string[]) {
  const byKey = new Map(devices.map((d) => [d.key, d]))
  const groups = new Map<string, DeviceSummary[]>()
  for (const key of order) {
    const d = byKey.get(key)
    if (!d) continue
    const rows = groups.get(d.site)
    if (rows) rows.push(d)
    else groups.set(d.site, [d])
  }
  const site = new Map(sites.map((s) => [s.key, s]))
  return [...groups].flatMap(([key, rows]) => {
    const s = site.get(key)
    return s ? [{ site: s, rows }] : []
  })
}

type SiteRowsProps = {
  site: Site
  rows: DeviceSummary[]
  picking: Picking
  folded: boolean
  setFolded: (folded: boolean) => void
}

function SiteRows({ site: s, rows, picking, folded, setFolded }: SiteRowsProps) {
  const [most, setMost] = useState(atFirst)
  const steady = rows.filter((d) => d.verdict.state === 'steady').length
  const open = folded ? rows.filter((d) => d.verdict.state !== 'steady') : rows
  const shown = open.slice(0, most)
  const action = 'underline decoration-rule2 underline-offset-2 hover:text-ink max-sm:min-h-11'
  return (
    <tbody className="max-sm:block">
      <tr className="h-7 border-t border-rule bg-sunk max-sm:flex max-sm:items-center">
        <th colSpan={7} className="px-2.5 text-left font-normal text-ink3 max-sm:px-3.5">
          {picking.on && <PickSite site={s.key} devices={rows} picking={picking} />}
          <b className="mr-2 text-ink">{s.key}</b>
          {[s.kind, `${s.devices} devices`, watts(s.w)].filter(Boolean).join(' · ')}
          {steady > 0 && (
            <>
              {' · '}
              <button type="button" aria-expanded={!folded} className={action} onClick={() => setFolded(!folded)}>
                {folded ? `show ${steady} steady` : 'fold what is steady'}
              </button>
            </>
          )}
        </th>
      </tr>
      {shown.map((d) => (
        <Row
          key={d.key}
          device={d}
          zone={s.zone}
          pick={picking.on ? picking.pick : undefined}
          picked={picking.keys.has(d.key)}
        />
      ))}
      {open.length > shown.length && (
        <tr className="border-t border-rule max-sm:flex">
          <td colSpan={7} className="px-2.5 py-1.5 max-sm:px-3.5">
            <button type="button" className={action} onClick={() => setMost(most + 5 * atFirst)}>
              Show {Math.min(5 * atFirst, open.length - shown.length)} more of {open.length - shown.length}
            </button>
          </td>
        </tr>
      )}
    </tbody>
  )
}

type RowProps = { device: DeviceSummary; zone: string; pick?: Picking['pick']; picked: boolean }

/** Drawn anew only when its device has changed. */
const Row = memo(function Row({ device: d, zone, pick, picked }: RowProps) {
  const healthy = d.verdict.state === 'steady'
  return (
    <tr className="row-lazy relative h-[31px] border-t border-rule hover:bg-sunk max-sm:flex max-sm:h-[58px] max-sm:items-center [&>td]:px-2.5 [&>td]:max-sm:px-3.5">
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
      <td className="truncate text-ink2 max-sm:hidden">{d.words}</td>
      <td className="max-lg:hidden">
        <MiniLines power={d.lines.power} reach={d.lines.reach} label={said(d)} />
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
  `power line ${d.lines.power.includes('broken') ? 'broken' : 'whole'}, reach line ${d.lines.reach.includes('broken') ? 'broken' : 'whole'}`

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
  if (v.state === 'hung' || v.state === 'dark')
    return (
      <>
        {words(v.state)}, <Ago at={v.since} zone={zone} />
      </>
    )
  return <>{v.reasons[0]?.text ?? words(v.state)}</>
}
