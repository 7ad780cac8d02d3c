import { type FormEvent, useState } from 'react'
import { useBoard, useSession } from '../api/hooks'
import {
  type Arguments,
  type Routine,
  useBeginRoutine,
  useRemoveRoutine,
  useRoutines,
  useSwitchRoutine,
  useTryRoutine,
} from '../api/orders'
import { atLeast } from '../parts/consent'
import { At } from '../parts/time'
import { Button, Loading, Opener, Wrong } from '../parts/ui'
import { Editor } from './Editor'
import { field } from './field'
import { Trial } from './Trial'

/** What is done without anybody at hand, and a way to write more of it. */
export function Routines() {
  const routines = useRoutines()
  const role = useSession().data?.role
  const [open, setOpen] = useState('')
  const [writes, setWrites] = useState(false)
  if (routines.isPending) return <Loading what="the routines" />
  if (routines.isError) return <Wrong error={routines.error} retry={() => void routines.refetch()} />
  return (
    <section aria-label="Routines">
      <h2 className="mb-2 text-[17px] font-semibold">Routines</h2>
      {routines.data.length === 0 && <p className="text-ink2">There is none.</p>}
      <ul className="flex flex-col rounded-lg border border-rule bg-panel">
        {routines.data.map((r) => (
          <li key={r.name} className="border-t border-rule px-3 py-2 first:border-t-0">
            <div className="flex flex-wrap items-baseline gap-x-3">
              <Opener name={r.name} open={open} onOpen={setOpen} />
              <State routine={r} />
              <span className="min-w-0 break-words text-ink2">{r.title}</span>
            </div>
            <p className="text-[12.5px] break-words text-ink3">
              {r.begins.length > 0 ? r.begins.join(' · ') : 'by hand'}
              {r.next && (
                <>
                  {' · next '}
                  <At at={r.next} zone={r.zone} />
                </>
              )}
            </p>
            {open === r.name && <Opened routine={r} />}
          </li>
        ))}
      </ul>
      {atLeast(role, 'steward') && (
        <div className="mt-3">
          {writes ? (
            <Editor text="" onDone={() => setWrites(false)} />
          ) : (
            <Button onClick={() => setWrites(true)}>Write a routine</Button>
          )}
        </div>
      )}
    </section>
  )
}

function State({ routine: r }: { routine: Routine }) {
  if (r.fault) return <span className="font-semibold text-hung">cannot be read</span>
  if (r.running) return <span className="font-semibold">is under way</span>
  if (r.unknown.length > 0) return <span className="text-strained">lacks {r.unknown.join(', ')}</span>
  if (r.off) return <span className="text-ink3">off: only people begin it</span>
  return null
}

function Opened({ routine: r }: { routine: Routine }) {
  const role = useSession().data?.role
  const [edits, setEdits] = useState(false)
  const [sure, setSure] = useState(false)
  const turn = useSwitchRoutine(r.name)
  const remove = useRemoveRoutine(r.name)
  const wrong = turn.error ?? remove.error
  if (edits) return <Editor text={r.text} onDone={() => setEdits(false)} />
  return (
    <div className="mt-2 flex flex-col gap-2">
      {r.fault && <pre className="text-[12.5px] whitespace-pre-wrap text-hung">{r.fault}</pre>}
      <pre className="overflow-x-auto rounded-md bg-sunk p-2 font-mono text-[12px]">{r.text}</pre>
      <p className="text-[12px] text-ink3">
        Set by {r.setBy}, <At at={r.setAt} zone={r.zone} />
      </p>
      {atLeast(role, 'operator') && !r.fault && <Begin routine={r} />}
      {atLeast(role, 'steward') && (
        <div className="flex flex-wrap gap-2">
          <Button onClick={() => setEdits(true)}>Change it</Button>
          <Button disabled={turn.isPending} onClick={() => turn.mutate(!r.off)}>
            {r.off ? 'Have it begin by itself' : 'Off: only people begin it'}
          </Button>
          <Button disabled={remove.isPending} onClick={() => (sure ? remove.mutate(undefined) : setSure(true))}>
            {sure ? 'Yes, remove it' : 'Remove it'}
          </Button>
        </div>
      )}
      {wrong && <p className="text-[12.5px] text-hung">{wrong.message}</p>}
    </div>
  )
}

/** Begins a routine by hand: it is tried first. */
function Begin({ routine: r }: { routine: Routine }) {
  const devices = useBoard().data?.devices.map((d) => d.key) ?? []
  const [given, setGiven] = useState<Arguments>({})
  const trial = useTryRoutine()
  const begin = useBeginRoutine(r.name)
  const wrong = trial.error ?? begin.error
  const names = r.arguments.map((a) => a.name)
  const submit = (e: FormEvent) => {
    e.preventDefault()
    begin.reset()
    trial.mutate({ name: r.name, with: given })
  }
  return (
    <form className="flex flex-col gap-2 text-[12.5px]" onSubmit={submit}>
      {names.length > 0 && (
        <div className="flex flex-wrap gap-2">
          {r.arguments.map((a) => (
            <label key={a.name} className="flex flex-col gap-1">
              {a.name}
              <input
                className={field}
                list={a.name === 'device' ? 'all-devices' : undefined}
                placeholder={a.value}
                required={a.value === ''}
                value={given[a.name] ?? ''}
                onChange={(e) => {
                  const next = { ...given, [a.name]: e.target.value }
                  if (e.target.value === '') delete next[a.name]
                  setGiven(next)
                  trial.reset()
                }}
              />
            </label>
          ))}
          <datalist id="all-devices">
            {devices.map((d) => (
              <option key={d} value={d} />
            ))}
          </datalist>
        </div>
      )}
      <div className="flex flex-wrap gap-2">
        <Button type="submit" disabled={trial.isPending}>
          Try it without acting
        </Button>
        {trial.isSuccess && (
          <Button tone="strong" disabled={begin.isPending || r.running !== ''} onClick={() => begin.mutate(given)}>
            Begin it now
          </Button>
        )}
      </div>
      {trial.isSuccess && <Trial steps={trial.data} />}
      {begin.isSuccess && <p className="text-ink2">It has begun: what it does is shown below.</p>}
      {wrong && <p className="text-hung">{wrong.message}</p>}
    </form>
  )
}
