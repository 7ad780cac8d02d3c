import { useState } from 'react'
import { useSession } from '../api/hooks'
import {
  type Ladder,
  type LadderPast,
  useArmLadder,
  useLadders,
  usePastOf,
  useResetLadder,
  useSetLadders,
} from '../api/orders'
import { atLeast } from '../parts/consent'
import { At, age } from '../parts/time'
import { Button, Loading, Opener, Wrong } from '../parts/ui'
import { Writing } from './Writing'

const here = Intl.DateTimeFormat().resolvedOptions().timeZone

/** How devices that hang are helped. */
export function Ladders() {
  const ladders = useLadders()
  const [open, setOpen] = useState('')
  const role = useSession().data?.role
  const [writes, setWrites] = useState(false)
  if (ladders.isPending) return <Loading what="the ladders" />
  if (ladders.isError) return <Wrong error={ladders.error} retry={() => void ladders.refetch()} />
  return (
    <section aria-label="Ladders">
      <h2 className="text-[17px] font-semibold">Ladders</h2>
      <p className="mb-2 text-[12.5px] text-ink3">
        How devices that hang are helped, from gentle to hard. Until one is armed it only says what it would do.
      </p>
      {ladders.data.length === 0 && <p className="text-ink2">There is none.</p>}
      <ul className="flex flex-col rounded-lg border border-rule bg-panel">
        {ladders.data.map((l) => (
          <li key={l.name} className="border-t border-rule px-3 py-2 first:border-t-0">
            <div className="flex flex-wrap items-baseline gap-x-3">
              <Opener name={l.name} open={open} onOpen={setOpen} />
              <State ladder={l} />
              <span className="min-w-0 break-words text-ink2">{l.title}</span>
            </div>
            <p className="text-[12.5px] break-words text-ink3">
              {l.devices.length} {l.devices.length === 1 ? 'device' : 'devices'}, hung for{' '}
              {age(l.lastingSeconds * 1000)}: {l.rungs.join(' · ')}
            </p>
            {l.holds.map((h) => (
              <Hold key={h.device} ladder={l.name} device={h.device} why={h.why} at={h.at} />
            ))}
            {open === l.name && <Opened ladder={l} />}
          </li>
        ))}
      </ul>
      {atLeast(role, 'steward') && (
        <div className="mt-3">
          {writes ? (
            <Text text={begun} onDone={() => setWrites(false)} />
          ) : (
            <Button onClick={() => setWrites(true)}>Write a ladder</Button>
          )}
        </div>
      )}
    </section>
  )
}

/** What a new one begins with. */
const begun = `plumb-ladder: 1
name: routers
title: A router that hangs is started anew
for: {roles: [router]}
lasting: 5m
rungs:
  - {do: cycle, tries: 2, settle: 5m}
call: [duty]
`

function State({ ladder: l }: { ladder: Ladder }) {
  if (l.fault) return <span className="font-semibold text-hung">cannot be read</span>
  if (l.climbs.length > 0) return <span className="font-semibold">is at work</span>
  if (!l.armed) return <span className="text-ink3">rehearses</span>
  return <span className="font-semibold">armed by {l.armedBy}</span>
}

/** Where a ladder is at its end, and what has it go on. */
function Hold(props: { ladder: string; device: string; why: string; at: string }) {
  const role = useSession().data?.role
  const reset = useResetLadder(props.ladder)
  return (
    <div className="mt-1 flex flex-wrap items-center gap-x-3 border-l-2 border-strained pl-2 text-[12.5px]">
      <span className="min-w-0 break-words">
        {props.device ? `At its end at ${props.device}` : 'All of it rests'} since <At at={props.at} zone={here} />:{' '}
        {props.why}
      </span>
      {atLeast(role, 'operator') && (
        <Button disabled={reset.isPending} onClick={() => reset.mutate(props.device)}>
          Have it go on
        </Button>
      )}
      {reset.isError && <span className="text-hung">{reset.error.message}</span>}
    </div>
  )
}

function Opened({ ladder: l }: { ladder: Ladder }) {
  const role = useSession().data?.role
  const [edits, setEdits] = useState(false)
  const past = usePastOf(l.name)
  const arm = useArmLadder(l.name)
  if (edits) return <Text text={l.text} onDone={() => setEdits(false)} />
  const wrong = past.error ?? arm.error
  return (
    <div className="mt-2 flex flex-col gap-2">
      {l.fault && <pre className="text-[12.5px] whitespace-pre-wrap text-hung">{l.fault}</pre>}
      <pre className="overflow-x-auto rounded-md bg-sunk p-2 font-mono text-[12px]">{l.text}</pre>
      <p className="text-[12px] break-words text-ink3">Helps {l.devices.join(', ') || 'nobody'}</p>
      <div className="flex flex-wrap gap-2">
        {atLeast(role, 'operator') && !l.fault && (
          <Button disabled={past.isPending} onClick={() => past.mutate(undefined)}>
            What it would have done in 90 days
          </Button>
        )}
        {atLeast(role, 'steward') && <Button onClick={() => setEdits(true)}>Change it</Button>}
        {atLeast(role, 'steward') && l.armed && (
          <Button disabled={arm.isPending} onClick={() => arm.mutate(false)}>
            Have it only say what it would do
          </Button>
        )}
        {atLeast(role, 'steward') && !l.armed && past.isSuccess && (
          <Button tone="strong" disabled={arm.isPending} onClick={() => arm.mutate(true)}>
            Arm it: it acts from now on
          </Button>
        )}
      </div>
      {past.isSuccess && <Past past={past.data} />}
      {wrong && <p className="text-[12.5px] text-hung">{wrong.message}</p>}
    </div>
  )
}

/** What it would have done, by what is on record. */
function Past({ past: p }: { past: LadderPast }) {
  return (
    <section aria-label="What it would have done" className="rounded-md border border-rule2 p-2 text-[12.5px]">
      <p className="font-semibold">
        Its devices hung {p.times.length} times, and it would have acted {p.acts} times
        {p.alone > 0 && `, ${p.alone} of them at a device that came back by itself`}.
      </p>
      <ul className="mt-1 flex flex-col gap-1">
        {p.times.map((t) => (
          <li key={t.incident} className="break-words">
            <span className="text-ink3">
              <At at={t.from} zone={here} />
            </span>{' '}
            <b>{t.device}</b> {t.acts ? t.preview : `nothing: ${t.why}`}
            {t.alone && <span className="text-ink3"> · it came back by itself</span>}
          </li>
        ))}
      </ul>
    </section>
  )
}

function Text({ text: begins, onDone }: { text: string; onDone: () => void }) {
  const [text, setText] = useState(begins)
  const set = useSetLadders()
  const counts = 'It is in force, and rehearses'
  return <Writing label="The ladder" text={text} onText={setText} set={set} counts={counts} onDone={onDone} />
}
