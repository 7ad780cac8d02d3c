import { type ReactNode, useState } from 'react'
import type { Device, LineScreen } from '../api/client'
import { useLineScreen, useSession } from '../api/hooks'
import { At } from '../parts/time'
import { Card } from '../parts/ui'

/** What a terminal at its serial line would show: at once where something is wrong, and else when asked for. */
export function LastScreen({ device }: { device: Device }) {
  const { key, verdict } = device.summary
  const role = useSession().data?.role
  const wrong = verdict.state !== 'steady' && verdict.state !== 'parked'
  const [asked, setAsked] = useState(false)
  const open = wrong || asked
  const screen = useLineScreen(key, open && role !== undefined && role !== 'viewer')
  if (role === undefined || role === 'viewer') return null
  const x = screen.data
  if (wrong && !asked && !x?.at) return null // it has nothing to tell, and there is enough to read
  const aside = x?.at ? (
    <span>
      since <At at={x.at} zone={device.zone} />
    </span>
  ) : undefined
  return (
    <div className="max-lg:order-3">
      <Card title="Its serial line shows" aside={aside}>
        {!open && (
          <button type="button" className="underline max-sm:min-h-11" onClick={() => setAsked(true)}>
            Show it
          </button>
        )}
        {open && screen.isPending && <p className="text-ink3">One moment.</p>}
        {open && screen.isError && <p role="alert">{screen.error.message}</p>}
        {open && x && !x.at && (
          <p className="text-ink2">
            Nothing is kept of it: it is while somebody sits there, or the estate says listen.
          </p>
        )}
        {open && x?.at && <Rows screen={x} />}
      </Card>
    </div>
  )
}

function Rows({ screen }: { screen: LineScreen }) {
  const last = screen.rows.findLastIndex((row) => row !== '')
  return (
    <pre className="overflow-x-auto rounded-md bg-sunk p-2.5 font-mono text-[11.5px] leading-[1.35] max-sm:text-[10px]">
      {screen.rows.slice(0, last + 1).map((row, y) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: rows are what their places are
        <div key={y}>
          {marked(
            row,
            screen.marked.filter((m) => m.row === y),
          ) || ' '}
        </div>
      ))}
    </pre>
  )
}

/** A row with what is chosen in it shown as that. */
function marked(row: string, spans: LineScreen['marked']): ReactNode {
  if (spans.length === 0) return row
  const cells = Array.from(row)
  const out: ReactNode[] = []
  let at = 0
  for (const m of spans) {
    const text = Array.from({ length: m.to - m.from }, (_, i) => cells[m.from + i] ?? ' ').join('')
    out.push(
      cells.slice(at, m.from).join(''),
      <mark key={m.from} className="bg-ink text-panel">
        {text}
      </mark>,
    )
    at = m.to
  }
  out.push(cells.slice(at).join(''))
  return out
}
