import { Link } from 'react-router'
import type { Sheet } from '../api/client'
import { useBoard, useSheets } from '../api/hooks'
import { Loading, Wrong } from '../parts/ui'

/** What is installed everywhere, and at which firmware level, side by side. */
export function EstatePage() {
  const sheets = useSheets()
  const board = useBoard()
  if (sheets.isPending) return <Loading what="the estate" />
  if (sheets.isError) return <Wrong error={sheets.error} retry={() => void sheets.refetch()} />
  const weak = new Map(board.data?.devices.map((d) => [d.key, d.weaknesses ?? 0]))
  return (
    <div className="px-5 py-4 max-sm:px-3.5">
      <h1 className="text-[21px] font-bold">Estate</h1>
      <p className="mt-1 mb-3 text-ink2">
        What stands where, what it is, and its firmware beside that of its sisters. Only what has a controller says so
        itself.
      </p>
      <div className="overflow-x-auto rounded-lg border border-rule bg-panel">
        <table className="w-full border-collapse">
          <thead>
            <tr className="h-8 text-left text-[12px] text-ink3 [&>th]:px-3 [&>th]:font-normal">
              <th>Device</th>
              <th>What it is</th>
              <th className="max-md:hidden">Place</th>
              <th>Product</th>
              <th>Firmware</th>
              <th className="max-md:hidden">Serial</th>
              <th>Weaknesses</th>
            </tr>
          </thead>
          <tbody>
            {sheets.data.map((s) => (
              <Row key={s.device} sheet={s} weaknesses={weak.get(s.device) ?? 0} behind={isBehind(s, sheets.data)} />
            ))}
          </tbody>
        </table>
      </div>
    </div>
  )
}

/** A sister of the same product is at a later firmware level. */
export function isBehind(s: Sheet, all: Sheet[]): boolean {
  return all.some(
    (o) => o.product !== undefined && o.product === s.product && later(o.firmware ?? '', s.firmware ?? ''),
  )
}

function later(a: string, b: string): boolean {
  const x = a.split('.').map(Number)
  const y = b.split('.').map(Number)
  for (let i = 0; i < Math.max(x.length, y.length); i++) {
    if ((x[i] ?? 0) !== (y[i] ?? 0)) return (x[i] ?? 0) > (y[i] ?? 0)
  }
  return false
}

function Row({ sheet: s, weaknesses, behind }: { sheet: Sheet; weaknesses: number; behind: boolean }) {
  return (
    <tr className="h-8 border-t border-rule hover:bg-sunk [&>td]:px-3">
      <td>
        <Link className="font-semibold hover:underline" to={`/devices/${s.device}`}>
          {s.device}
        </Link>
      </td>
      <td className="text-ink2">{s.words}</td>
      <td className="text-ink2 max-md:hidden">{[s.site, s.place].filter(Boolean).join(', ')}</td>
      <td>{s.product ?? <span className="text-ink3">–</span>}</td>
      <td className={behind ? 'font-semibold text-strained' : ''}>
        {s.firmware ?? <span className="text-ink3">–</span>}
        {behind && <span className="ml-1.5 font-normal">behind a sister</span>}
      </td>
      <td className="text-ink2 max-md:hidden">{s.serial}</td>
      <td className={weaknesses > 0 ? 'text-strained' : 'text-ink3'}>{weaknesses > 0 ? weaknesses : '–'}</td>
    </tr>
  )
}
