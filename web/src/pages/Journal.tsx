import { Download } from 'lucide-react'
import { Link, useSearchParams } from 'react-router'
import type { JournalEntry } from '../api/client'
import { useBoard, useJournal } from '../api/hooks'
import { clock, exact, useNow, watts } from '../parts/time'
import { Button, Loading, Wrong } from '../parts/ui'

const kinds: Record<string, string> = {
  '': 'everything',
  'operation-ended': 'operations that ended',
  'operation-asked': 'operations asked for',
  incident: 'incidents',
  group: 'several at once, or later',
  window: 'windows',
  estate: 'changes of the estate',
  controller: 'settings of controllers',
  supply: 'UPSes',
  wiring: 'wiring checks',
  account: 'accounts',
  secret: 'secrets',
  'log-in': 'log-ins',
  'log-in-refused': 'refused log-ins',
}

export function JournalPage() {
  const [params, setParams] = useSearchParams()
  const set = (name: string, value: string) =>
    setParams(
      (old) => {
        if (value) old.set(name, value)
        else old.delete(name)
        return old
      },
      { replace: true },
    )
  const kind = params.get('kind') ?? ''
  const device = params.get('device') ?? ''
  const limit = Number(params.get('limit')) || 100
  const journal = useJournal({ limit, ...(kind && { kind }), ...(device && { device }) })
  const board = useBoard()
  const field = 'h-8 rounded-md border border-rule2 bg-panel px-2 max-sm:h-11'
  return (
    <div className="px-5 py-4 max-sm:px-3.5">
      <div className="mb-3.5 flex flex-wrap items-center gap-3">
        <h1 className="mr-2 text-[21px] font-bold">Journal</h1>
        <label>
          <span className="sr-only">Kind of entry</span>
          <select className={field} value={kind} onChange={(e) => set('kind', e.target.value)}>
            {Object.entries(kinds).map(([k, name]) => (
              <option key={k} value={k}>
                {name}
              </option>
            ))}
          </select>
        </label>
        <label>
          <span className="sr-only">Device</span>
          <select className={field} value={device} onChange={(e) => set('device', e.target.value)}>
            <option value="">all devices</option>
            {board.data?.devices.map((d) => (
              <option key={d.key}>{d.key}</option>
            ))}
          </select>
        </label>
        {journal.data && (
          <Button className="ml-auto" onClick={() => save(journal.data)}>
            <Download size={15} aria-hidden /> Save as JSON Lines
          </Button>
        )}
      </div>
      {journal.isPending && <Loading what="the journal" />}
      {journal.isError && <Wrong error={journal.error} retry={() => void journal.refetch()} />}
      {journal.data && <Entries entries={journal.data} />}
      {journal.data && journal.data.length >= limit && limit < 500 && (
        <Button className="mt-3" onClick={() => set('limit', String(Math.min(500, limit * 2)))}>
          Show older entries
        </Button>
      )}
    </div>
  )
}

function save(entries: JournalEntry[]) {
  const text = entries.map((e) => `${JSON.stringify(e)}\n`).join('')
  const a = document.createElement('a')
  a.href = URL.createObjectURL(new Blob([text], { type: 'application/x-ndjson' }))
  a.download = 'journal.jsonl'
  a.click()
  URL.revokeObjectURL(a.href)
}

function Entries({ entries }: { entries: JournalEntry[] }) {
  const now = useNow()
  const board = useBoard()
  if (entries.length === 0) return <p className="text-ink2">Nothing like that is in the journal.</p>
  const own = Intl.DateTimeFormat().resolvedOptions().timeZone
  const zone = (e: JournalEntry) => board.data?.sites.find((s) => s.key === e.site)?.zone ?? own
  return (
    <ol className="border border-rule bg-panel">
      {entries.map((e) => (
        <li
          key={e.id}
          className="grid grid-cols-[7.500rem_6.500rem_9rem_1fr_auto] gap-x-4 border-t border-rule px-3 py-2 first:border-t-0 max-lg:grid-cols-[auto_1fr]"
        >
          <time className="text-ink3" dateTime={e.at} title={exact(e.at, zone(e))}>
            {clock(e.at, zone(e), now)}
          </time>
          <span className="truncate font-medium">{e.who}</span>
          <span className="max-lg:col-span-2">
            {e.device && (
              <Link className="hover:underline" to={`/devices/${e.device}`}>
                {e.device}
              </Link>
            )}
          </span>
          <span className={`max-lg:col-span-2 ${e.result === 'failed' || e.result === 'refused' ? 'text-hung' : ''}`}>
            {e.operation ? (
              <Link className="hover:underline" to={`?op=${e.operation}`}>
                {e.text}
              </Link>
            ) : (
              e.text
            )}
            {e.why && <span className="block text-ink2">Because {e.why}</span>}
          </span>
          <span className="text-right whitespace-nowrap text-ink3 max-lg:col-span-2 max-lg:text-left">
            {e.beforeW !== undefined && e.afterW !== undefined && `${watts(e.beforeW)} → ${watts(e.afterW)}`}
          </span>
        </li>
      ))}
    </ol>
  )
}
