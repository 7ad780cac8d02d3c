import { Link, useSearchParams } from 'react-router'
import type { EstateEvent } from '../api/client'
import { useBoard, useGearEvents } from '../api/hooks'
import { clock, exact, useNow } from '../parts/time'
import { Loading, Wrong } from '../parts/ui'

const levels = { '': 'all', warning: 'warnings and worse', critical: 'critical' } as const
const spans = { '1': 'a day', '7': 'a week', '30': 'a month' } as const

/** What gear itself has logged or sent, and what was recognised on serial lines. */
export function EventsPage() {
  const [params, setParams] = useSearchParams()
  const site = params.get('site') ?? ''
  const level = params.get('level') ?? ''
  const days = params.get('days') ?? '7'
  const events = useGearEvents(site, level, Number(days) || 7)
  const board = useBoard()
  const choose = (name: string, label: string, value: string, options: [string, string][]) => (
    <label>
      <span className="sr-only">{label}</span>
      <select
        className="h-8 rounded-md border border-rule2 bg-panel px-2 max-sm:h-11"
        value={value}
        onChange={(e) =>
          setParams(
            (old) => {
              old.set(name, e.target.value)
              return old
            },
            { replace: true },
          )
        }
      >
        {options.map(([k, text]) => (
          <option key={k} value={k}>
            {text}
          </option>
        ))}
      </select>
    </label>
  )
  return (
    <div className="px-5 py-4 max-sm:px-3.5">
      <div className="mb-3.5 flex flex-wrap items-center gap-3">
        <h1 className="mr-2 text-[21px] font-bold">Events of gear</h1>
        {choose('level', 'How bad', level, Object.entries(levels))}
        {choose('site', 'Site', site, [
          ['', 'all sites'],
          ...(board.data?.sites ?? []).map((s): [string, string] => [s.key, s.key]),
        ])}
        {choose(
          'days',
          'How far back',
          days,
          Object.entries(spans).map(([k, text]): [string, string] => [k, `the last ${text.slice(2)}`]),
        )}
      </div>
      {events.isPending && <Loading what="what gear has logged" />}
      {events.isError && <Wrong error={events.error} retry={() => void events.refetch()} />}
      {events.data && <List events={events.data} />}
    </div>
  )
}

const tone: Partial<Record<EstateEvent['level'], string>> = { warning: 'text-strained', critical: 'text-hung' }

function List({ events }: { events: EstateEvent[] }) {
  const now = useNow()
  const board = useBoard()
  if (events.length === 0) return <p className="text-ink2">Nothing like that was logged or recognised.</p>
  const own = Intl.DateTimeFormat().resolvedOptions().timeZone
  const zone = (e: EstateEvent) => board.data?.sites.find((s) => s.key === e.site)?.zone ?? own
  return (
    <ol className="border border-rule bg-panel">
      {events.map((e, i) => (
        <li
          // biome-ignore lint/suspicious/noArrayIndexKey: they have no name, and are replaced together
          key={`${e.at} ${e.device} ${i}`}
          className="grid grid-cols-[7.5rem_11rem_17rem_1fr] gap-x-4 border-t border-rule px-3 py-2 first:border-t-0 max-lg:grid-cols-[auto_1fr]"
        >
          <time className="text-ink3" dateTime={e.at} title={exact(e.at, zone(e))}>
            {clock(e.at, zone(e), now)}
          </time>
          <Link className="truncate font-medium hover:underline" to={`/devices/${e.device}`}>
            {e.device}
          </Link>
          <span className="max-lg:col-span-2">
            {e.what}
            {e.from === 'line' && <span className="text-ink3">, on its serial line</span>}
            {e.from === 'screen' && <span className="text-ink3">, on its screen</span>}
            {e.from === 'syslog' && <span className="text-ink3">, over syslog</span>}
          </span>
          <span className={`min-w-0 break-words max-lg:col-span-2 ${tone[e.level] ?? ''}`}>{e.text}</span>
        </li>
      ))}
    </ol>
  )
}
