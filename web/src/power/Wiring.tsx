import { useState } from 'react'
import type { Wiring, WiringFinding } from '../api/client'
import { useCheckWiring, useStopWiring, useWiring } from '../api/hooks'
import { Button, Card } from '../parts/ui'

/** Whether the cables of a site are where the estate says. */
export function WiringCard({ site }: { site: string }) {
  const wiring = useWiring(site)
  const [asking, setAsking] = useState(false)
  const w = wiring.data
  return (
    <Card
      title="Wiring"
      aside={
        w &&
        !w.running && (
          <button type="button" className="underline" onClick={() => setAsking(!asking)}>
            {asking ? 'Leave it' : 'Check by switching…'}
          </button>
        )
      }
    >
      {wiring.isError && <p className="text-hung">{wiring.error.message}</p>}
      {w?.running && <Running site={site} doing={w.doing ?? ''} />}
      {w && asking && !w.running && <Ask wiring={w} onBegun={() => setAsking(false)} />}
      {w && w.switched.length > 0 && <Findings title="By switching" list={w.switched} />}
      {w && w.compared.length > 0 && <Compared list={w.compared} />}
      {w && w.switched.length + w.compared.length === 0 && !w.running && (
        <p className="text-ink3">Nothing here measures its own draw beside its outlet, so only switching can tell.</p>
      )}
    </Card>
  )
}

const tone: Record<WiringFinding['verdict'], string> = {
  right: 'text-ink2',
  wrong: 'text-hung font-semibold',
  empty: 'text-ink3',
  unknown: 'text-ink3',
  skipped: 'text-ink3',
}

function Findings({ title, list }: { title: string; list: WiringFinding[] }) {
  return (
    <>
      <h3 className="mt-1 text-[12px] text-ink3">{title}</h3>
      <ul>
        {list.map((f) => (
          <li key={f.outlet + f.expected.join()} className="border-t border-rule py-1">
            <span className="text-ink3">{f.outlet}</span> <b className={tone[f.verdict]}>{f.verdict}</b>
            <span className="block text-ink2">{f.text}.</span>
          </li>
        ))}
      </ul>
    </>
  )
}

/** What loads that go up and down together tell; those that tell nothing are only counted. */
function Compared({ list }: { list: WiringFinding[] }) {
  const telling = list.filter((f) => f.verdict !== 'unknown')
  const rest = list.length - telling.length
  return (
    <>
      {telling.length > 0 && <Findings title="By comparing loads, nothing switched" list={telling} />}
      {rest > 0 && (
        <p className="mt-1 text-[12px] text-ink3">
          {rest} more {rest === 1 ? 'load has' : 'loads have'} not moved enough yet to be told from others.
        </p>
      )}
    </>
  )
}

function Running({ site, doing }: { site: string; doing: string }) {
  const stop = useStopWiring(site)
  return (
    <div className="mb-2 flex flex-wrap items-center justify-between gap-2">
      <span className="text-waking">Checking {doing}</span>
      <Button disabled={stop.isPending} onClick={() => stop.mutate()}>
        Stop after this one
      </Button>
    </div>
  )
}

/** Which outlets to switch, and why. Each goes off for some seconds, and what is guarded is left alone. */
function Ask({ wiring: w, onBegun }: { wiring: Wiring; onBegun: () => void }) {
  const check = useCheckWiring(w.site)
  const [chosen, setChosen] = useState<string[]>([])
  const [why, setWhy] = useState('')
  const flip = (o: string) => setChosen(chosen.includes(o) ? chosen.filter((x) => x !== o) : [...chosen, o])
  const missing = chosen.length === 0 ? 'Choose an outlet' : why.trim() === '' ? 'Say why' : undefined
  return (
    <form
      className="mb-3 rounded-md border border-rule2 p-3"
      onSubmit={(e) => {
        e.preventDefault()
        check.mutate({ outlets: chosen, why }, { onSuccess: onBegun })
      }}
    >
      <p>
        One after the other, each for about 9 s. What hangs on it loses power; what is guarded is left alone. The next
        one waits until everybody is back.
      </p>
      <ul className="my-2 max-h-60 overflow-y-auto">
        {w.outlets.map((o) => (
          <li key={o.outlet}>
            <label className="flex min-h-7 items-center gap-2 max-sm:min-h-11">
              <input type="checkbox" checked={chosen.includes(o.outlet)} onChange={() => flip(o.outlet)} />
              <span className="whitespace-nowrap text-ink3">{o.outlet}</span>
              <span>{o.feeds.join(', ') || 'nothing that the estate knows'}</span>
              {o.guarded.length > 0 && <span className="text-strained">guarded</span>}
            </label>
          </li>
        ))}
      </ul>
      <label className="block">
        Why
        <input
          value={why}
          onChange={(e) => setWhy(e.target.value)}
          className="mt-1 block w-full rounded-md border border-rule2 bg-paper px-2 py-1 max-sm:min-h-11"
        />
      </label>
      {missing && <p className="mt-2 text-ink2">{missing} first.</p>}
      <Button type="submit" tone="strong" className="mt-2" disabled={missing !== undefined || check.isPending}>
        Switch {chosen.length} {chosen.length === 1 ? 'outlet' : 'outlets'} off and on
      </Button>
      {check.isError && (
        <p role="alert" className="mt-2 text-hung">
          {check.error.message}
        </p>
      )}
    </form>
  )
}
