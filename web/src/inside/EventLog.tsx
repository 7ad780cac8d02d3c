import { useState } from 'react'
import type { GearEvent } from '../api/client'
import { useEvents } from '../api/hooks'
import { isWrong } from '../parts/say'
import { At } from '../parts/time'
import { Card } from '../parts/ui'

type Filter = 'all' | 'wrong'
const shownAtFirst = 8

/** The event log of a controller, with filters. */
export function EventLog({ device, zone }: { device: string; zone: string }) {
  const log = useEvents(device)
  const [filter, setFilter] = useState<Filter>('all')
  const [text, setText] = useState('')
  const [all, setAll] = useState(false)
  const events = (log.data?.events ?? []).filter((e) => matches(e, filter, text))
  const shown = all ? events : events.slice(0, shownAtFirst)
  return (
    <Card
      title="Event log of its controller"
      aside={
        log.data?.at && (
          <span>
            read <At at={log.data.at} zone={zone} />
          </span>
        )
      }
    >
      <div className="mb-2 flex flex-wrap items-center gap-2">
        {(['all', 'wrong'] as const).map((f) => (
          <button
            key={f}
            type="button"
            aria-pressed={filter === f}
            onClick={() => setFilter(f)}
            className={`min-h-7 rounded px-2 max-sm:min-h-10 ${filter === f ? 'bg-sunk font-semibold' : 'text-ink2 hover:text-ink'}`}
          >
            {f === 'all' ? 'All' : 'What went wrong'}
          </button>
        ))}
        <input
          aria-label="Find in the event log"
          placeholder="Find…"
          value={text}
          onChange={(e) => setText(e.target.value)}
          className="min-h-7 w-40 rounded-md border border-rule2 bg-paper px-2 max-sm:min-h-10 max-sm:text-[16px]"
        />
        {log.data?.full && <span className="text-strained">The log is full: newer events are lost.</span>}
      </div>
      {log.isError && <p className="text-hung">{log.error.message}</p>}
      {log.data && events.length === 0 && (
        <p className="text-ink3">{log.data.at ? 'There is nothing like that in it.' : 'It has not been read yet.'}</p>
      )}
      <ul>
        {shown.map((e) => (
          <li
            key={e.id}
            className="grid grid-cols-[9rem_9rem_1fr] gap-x-4 border-t border-rule py-1 first:border-t-0 max-sm:grid-cols-1"
          >
            <span className="text-ink3">{when(e, zone)}</span>
            <span>{e.sensor || e.kind}</span>
            <span className={eventTone[e.level]} title={e.raw}>
              {e.text}
            </span>
          </li>
        ))}
      </ul>
      {events.length > shown.length && (
        <button type="button" className="mt-2 underline" onClick={() => setAll(true)}>
          Show {events.length - shown.length} older ones
        </button>
      )}
    </Card>
  )
}

const eventTone: Record<GearEvent['level'], string> = {
  absent: '',
  fine: '',
  warning: 'text-strained',
  critical: 'text-hung font-semibold',
}

export function matches(e: GearEvent, filter: Filter, text: string): boolean {
  const words = `${e.sensor} ${e.kind} ${e.text}`.toLowerCase()
  return (filter === 'all' || isWrong(e)) && words.includes(text.trim().toLowerCase())
}

/** By the controller's clock, or counted from its start. */
function when(e: GearEvent, zone: string) {
  if (e.at) return <At at={e.at} zone={zone} />
  if (e.afterSeconds !== undefined) return `start + ${Math.round(e.afterSeconds)} s`
  return 'time not known'
}
