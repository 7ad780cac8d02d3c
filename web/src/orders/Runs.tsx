import { useState } from 'react'
import { useSession } from '../api/hooks'
import { type Run, useRun, useRuns, useSteerRun } from '../api/orders'
import { atLeast } from '../parts/consent'
import { At } from '../parts/time'
import { Button, Loading, Wrong } from '../parts/ui'

const here = Intl.DateTimeFormat().resolvedOptions().timeZone

const states: Record<Run['state'], { words: string; tone: string }> = {
  running: { words: 'is under way', tone: 'font-semibold' },
  paused: { words: 'waits: somebody has paused it', tone: 'font-semibold text-strained' },
  done: { words: 'done', tone: 'text-ink3' },
  failed: { words: 'failed', tone: 'font-semibold text-hung' },
  stopped: { words: 'stopped', tone: 'text-strained' },
  shown: { words: 'would have begun', tone: 'text-ink3' },
  missed: { words: 'missed', tone: 'font-semibold text-strained' },
}

/** What routines do, and did. */
export function Runs() {
  const runs = useRuns()
  const [open, setOpen] = useState('')
  if (runs.isPending) return <Loading what="what they did" />
  if (runs.isError) return <Wrong error={runs.error} retry={() => void runs.refetch()} />
  return (
    <section aria-label="What they did">
      <h2 className="mb-2 text-[17px] font-semibold">What they did</h2>
      {runs.data.length === 0 && <p className="text-ink2">Nothing yet.</p>}
      <ul className="flex flex-col">
        {runs.data.map((r) => {
          const shown = open === r.id || r.state === 'running' || r.state === 'paused'
          return (
            <li key={r.id} className="border-t border-rule py-1.5">
              <div className="flex flex-wrap gap-x-3">
                <span className="w-36 shrink-0 text-ink3 tabular-nums">
                  <At at={r.began} zone={here} />
                </span>
                <button
                  type="button"
                  className="text-left font-semibold hover:underline"
                  aria-expanded={shown}
                  onClick={() => setOpen(open === r.id ? '' : r.id)}
                >
                  {r.ladder ? `${r.routine} at ${r.device}` : r.routine}
                </button>
                <span className={states[r.state].tone}>{states[r.state].words}</span>
                <span className="min-w-0 break-words text-ink2">{r.note || r.why}</span>
              </div>
              {shown && (r.ended ? <Ended id={r.id} /> : <Steps run={r} />)}
            </li>
          )
        })}
      </ul>
    </section>
  )
}

/** A run that is over: its steps are asked for when somebody looks. */
function Ended({ id }: { id: string }) {
  const run = useRun(id)
  if (run.isPending) return <Loading what="its steps" />
  if (run.isError) return <Wrong error={run.error} retry={() => void run.refetch()} />
  return <Steps run={run.data} />
}

function Steps({ run: r }: { run: Run }) {
  const role = useSession().data?.role
  const steer = useSteerRun(r.id)
  const live = r.state === 'running' || r.state === 'paused'
  return (
    <div className="mt-1 rounded-md bg-sunk p-2 text-[12.5px]">
      <p className="text-ink3">
        Run {r.id}, {r.why}, as {r.by}
      </p>
      {r.lost > 0 && <p className="text-ink3">{r.lost} steps before these are no longer kept.</p>}
      <ol className="mt-1 flex flex-col gap-0.5">
        {r.steps.map((s) => (
          <li key={`${s.at} ${s.path} ${s.words}`} className="flex gap-2">
            <span className={s.ok ? 'text-ink3' : 'text-hung'} role="img" aria-label={s.ok ? 'done' : 'failed'}>
              {s.ok ? '✓' : '✗'}
            </span>
            <span className="min-w-0 break-words">
              <span className="text-ink3">{s.path}</span> {s.words}
              {s.note && <span className="text-ink2">: {s.note}</span>}
            </span>
          </li>
        ))}
        {r.now.map((n) => (
          <li key={n} className="flex gap-2 font-semibold">
            <span aria-hidden>→</span>
            <span className="min-w-0 break-words">{n}</span>
          </li>
        ))}
      </ol>
      {live && atLeast(role, 'operator') && (
        <div className="mt-2 flex gap-2">
          <Button disabled={steer.isPending} onClick={() => steer.mutate('stop')}>
            Stop
          </Button>
          <Button disabled={steer.isPending} onClick={() => steer.mutate(r.state === 'paused' ? 'resume' : 'pause')}>
            {r.state === 'paused' ? 'Go on' : 'Pause'}
          </Button>
        </div>
      )}
      {steer.isError && <p className="mt-1 text-hung">{steer.error.message}</p>}
    </div>
  )
}
