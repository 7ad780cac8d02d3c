import { type RefObject, useCallback, useEffect, useState } from 'react'
import { api, unwrap } from '../api/client'
import type { components } from '../api/schema'
import { Button } from '../parts/ui'
import { Recorder } from './keys'
import type { Playing, View } from './view'

type Sequence = components['schemas']['Sequence']
const field = 'rounded-md border border-rule2 bg-sunk px-2 font-mono text-[12px]'

/** Rows of keys that are kept by name: recorded here, edited as text, and played again. */
export function Sequences({
  view,
  playing,
  layout,
  close,
}: {
  view: RefObject<View | undefined>
  playing?: Playing
  layout: string
  close: () => void
}) {
  const [all, setAll] = useState<Sequence[]>([])
  const [name, setName] = useState('')
  const [text, setText] = useState('')
  const [said, setSaid] = useState('')
  const [records, setRecords] = useState(false)

  const read = useCallback(() => unwrap(api.GET('/sequences')).then(setAll, (e: Error) => setSaid(e.message)), [])
  useEffect(() => {
    void read()
    const at = view.current
    return () => {
      if (at) at.recorder = undefined
    }
  }, [view, read])

  const record = () => {
    const at = view.current
    if (!at) return
    if (at.recorder) {
      const written = at.recorder.text()
      setText((t) => t + written)
      at.recorder = undefined
    } else at.recorder = new Recorder()
    setRecords(at.recorder !== undefined)
  }
  const open = (q?: Sequence) => {
    setName(q?.name ?? '')
    setText(q?.text ?? '')
    setSaid('')
  }
  const params = { params: { path: { name } } }
  const save = () =>
    unwrap(api.PUT('/sequences/{name}', { ...params, body: { text, layout } }))
      .then(read)
      .then(() => setSaid(`${name} is kept.`))
      .catch((e: Error) => setSaid(e.message))
  const remove = () =>
    unwrap(api.DELETE('/sequences/{name}', params))
      .then(() => {
        open()
        return read()
      })
      .catch((e: Error) => setSaid(e.message))

  const kept = all.find((q) => q.name === name)
  const runs = playing && !playing.ended
  return (
    <section className="rounded-lg border border-rule2 bg-panel p-3" aria-label="Sequences">
      <div className="flex flex-wrap items-center gap-2">
        <label className="inline-flex items-center gap-1.5 text-[12.5px] text-ink2">
          Sequence
          <select
            value={kept ? name : ''}
            onChange={(e) => open(all.find((q) => q.name === e.target.value))}
            className="min-h-8 rounded-md border border-rule2 bg-panel px-2 max-sm:min-h-11"
          >
            <option value="">a new one</option>
            {all.map((q) => (
              <option key={q.name}>{q.name}</option>
            ))}
          </select>
        </label>
        {runs ? (
          <Button tone="strong" onClick={() => view.current?.wish({ do: 'stop' })}>
            Stop it
          </Button>
        ) : (
          <Button
            tone="strong"
            disabled={!kept || kept.text !== text}
            onClick={() => {
              setSaid('')
              view.current?.wish({ do: 'play', name })
            }}
          >
            Play it
          </Button>
        )}
        <Button aria-pressed={records} onClick={record}>
          {records ? 'End recording' : 'Record keys'}
        </Button>
        <Button onClick={close}>Close</Button>
        <span role="status" className={`text-[12.5px] ${playing?.failed ? 'text-strained' : 'text-ink2'}`}>
          {records
            ? 'What you press at the screen is written down.'
            : said || (playing && `${playing.name}: ${playing.text}`)}
        </span>
      </div>
      <label className="mt-2 block text-[12px] text-ink3" htmlFor="sequence">
        A line for each: key ctrl-alt-delete, type TEXT (and Enter), wait PATTERN 30s (until it stands on the screen),
        pause 2s. Whoever may sit here reads it: no passwords.
      </label>
      <textarea
        id="sequence"
        rows={4}
        value={text}
        onChange={(e) => setText(e.target.value)}
        className={`my-2 w-full p-2 ${field}`}
      />
      <div className="flex flex-wrap items-center gap-2">
        <input
          value={name}
          onChange={(e) => setName(e.target.value)}
          aria-label="Its name"
          placeholder="into-set-up"
          className={`min-h-8 w-44 max-sm:min-h-11 ${field}`}
        />
        <Button disabled={!name || !text} onClick={() => void save()}>
          Keep it
        </Button>
        {kept && <Button onClick={() => void remove()}>Forget it</Button>}
      </div>
    </section>
  )
}
