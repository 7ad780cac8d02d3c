import { type FormEvent, useState } from 'react'
import { useBoard } from '../api/hooks'
import { useSetRoutines, useTryRoutine } from '../api/orders'
import { Button } from '../parts/ui'
import { field } from './field'
import { oneLine, verbs } from './oneLine'
import { Trial } from './Trial'
import { Writing } from './Writing'

/** Writes a routine: the commonest by a form, all others as text. */
export function Editor({ text: begun, onDone }: { text: string; onDone: () => void }) {
  const [text, setText] = useState(begun)
  const set = useSetRoutines()
  const trial = useTryRoutine()
  const onText = (next: string) => {
    setText(next)
    trial.reset()
  }
  const tries = (
    <Button disabled={trial.isPending || text === ''} onClick={() => trial.mutate({ text, with: {} })}>
      Try it without acting
    </Button>
  )
  return (
    <div className="flex flex-col gap-2">
      {begun === '' && <OneLine onWritten={onText} />}
      <Writing
        label="The routine"
        text={text}
        onText={onText}
        set={set}
        counts="It is in force"
        busy={trial.isPending}
        more={tries}
        onDone={onDone}
      >
        {trial.isError && <pre className="text-[12.5px] whitespace-pre-wrap text-hung">{trial.error.message}</pre>}
        {trial.isSuccess && <Trial steps={trial.data} />}
      </Writing>
    </div>
  )
}

/** The commonest routine: one thing, again and again. */
function OneLine({ onWritten }: { onWritten: (text: string) => void }) {
  const devices = useBoard().data?.devices ?? []
  const [days, setDays] = useState('day')
  const [at, setAt] = useState('03:30')
  const [verb, setVerb] = useState('cycle')
  const [device, setDevice] = useState('')
  const write = (e: FormEvent) => {
    e.preventDefault()
    const d = devices.find((x) => x.key === device)
    if (d) onWritten(oneLine(`every ${days} at ${at}`, verb, d.key, d.site))
  }
  return (
    <form className="flex flex-wrap items-end gap-2 text-[12.5px]" onSubmit={write}>
      <label className="flex flex-col gap-1">
        Every
        <select className={field} value={days} onChange={(e) => setDays(e.target.value)}>
          {['day', 'weekday', 'weekend', 'mon', 'tue', 'wed', 'thu', 'fri', 'sat', 'sun'].map((x) => (
            <option key={x}>{x}</option>
          ))}
        </select>
      </label>
      <label className="flex flex-col gap-1">
        at
        <input className={field} type="time" required value={at} onChange={(e) => setAt(e.target.value)} />
      </label>
      <label className="flex flex-col gap-1">
        do
        <select className={field} value={verb} onChange={(e) => setVerb(e.target.value)}>
          {verbs.map((x) => (
            <option key={x}>{x}</option>
          ))}
        </select>
      </label>
      <label className="flex flex-col gap-1">
        to
        <select className={field} required value={device} onChange={(e) => setDevice(e.target.value)}>
          <option value="">choose a device</option>
          {devices.map((d) => (
            <option key={d.key}>{d.key}</option>
          ))}
        </select>
      </label>
      <Button type="submit">Write it</Button>
    </form>
  )
}
