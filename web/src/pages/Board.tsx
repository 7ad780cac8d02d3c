import { Link, useSearchParams } from 'react-router'
import type { Board, DeviceSummary, ServiceAilment, Trouble, VerdictState } from '../api/client'
import { useBoard } from '../api/hooks'
import { Rows } from '../board/Rows'
import { Mark, words } from '../marks/Mark'
import { PickedBar, Underway, usePicking } from '../parts/picking'
import { actionName, actionsFor, capital, diagnosis, switchedOutlets } from '../parts/say'
import { age, clock, useNow, zoneOf } from '../parts/time'
import { Button, Loading, Wrong } from '../parts/ui'

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
  const order: VerdictState[] = [
    'hung',
    'silent',
    'dark',
    'cut-off',
    'strained',
    'waking',
    'parked',
    'unknown',
    'steady',
  ]
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
  silent: 'border-l-silent',
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
  const zone = zoneOf(board, { site: d?.site })
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
