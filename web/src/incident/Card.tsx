import { type FormEvent, useState } from 'react'
import { Link } from 'react-router'
import type { Incident, IncidentSaying, Remark } from '../api/client'
import { useOperation, useSayOfIncident, useSession, useTold } from '../api/hooks'
import { atLeast, Field } from '../parts/consent'
import { capital } from '../parts/say'
import { At, age, useNow } from '../parts/time'
import { Button } from '../parts/ui'

/** Of what an incident is told: hung, or that it has not come back. */
export function kindWords(i: Incident) {
  if (i.kind === 'late') return i.ended ? 'did not come back in time' : 'has not come back'
  if (i.kind === 'owed') return i.ended ? 'was owed power' : 'is owed power'
  if (i.kind === 'missed') return 'was to be switched at a time that was missed'
  return `${i.ended ? 'was' : 'is'} ${i.kind.replace('-', ' ')}`
}

export function OpenIncident({ incident: i }: { incident: Incident }) {
  const now = useNow()
  return (
    <section
      aria-label={`Incident of ${i.device}`}
      className={`rounded-lg border border-rule2 border-l-4 bg-panel px-4 py-3 ${i.seen || i.shelved ? 'border-l-strained' : 'border-l-hung'}`}
    >
      <h2 className="flex flex-wrap items-baseline gap-x-2 text-[15px]">
        <Link className="font-bold hover:underline" to={`/devices/${i.device}`}>
          {i.device} {kindWords(i)}
        </Link>
        <span className="text-ink3">
          since <At at={i.opened} zone={i.zone} />, for {age(now - Date.parse(i.opened))}
          {i.again > 0 && `, back ${i.again === 1 ? 'once' : `${i.again} times`}`}
        </span>
        <Link className="ml-auto font-mono text-[12px] text-ink3 hover:underline" to={`/incidents/${i.id}`}>
          {i.id}
        </Link>
      </h2>
      <p className="mt-1 text-ink2">{capital(i.text)}.</p>
      {i.explains.length > 0 && <p className="mt-1 text-ink2">Explains {i.explains.join(', ')}.</p>}
      <ul className="mt-1.5 flex flex-col gap-1">
        {i.tried.map((id) => (
          <Tried key={id} id={id} device={i.device} />
        ))}
        {i.seen && <Said remark={i.seen} zone={i.zone} what="sees to it" />}
        {i.shelved && <Said remark={i.shelved} zone={i.zone} what="put it on the shelf" />}
        {i.notes.map((n) => (
          <Said key={n.at} remark={n} zone={i.zone} what="noted" />
        ))}
      </ul>
      <ToldWords incident={i} />
      <Answer incident={i} />
    </section>
  )
}

function Tried({ id, device }: { id: string; device: string }) {
  const o = useOperation(id)
  return (
    <li>
      <span className="text-ink3">Tried: </span>
      <Link className="hover:underline" to={`/devices/${device}?op=${id}`}>
        {o.data?.outcome ?? id}
      </Link>
    </li>
  )
}

function Said({ remark: r, zone, what }: { remark: Remark; zone: string; what: string }) {
  return (
    <li>
      <b>{r.by}</b> {what}
      {r.until && (
        <>
          {' '}
          until <At at={r.until} zone={zone} />
        </>
      )}
      {r.text && `: ${r.text}`}{' '}
      <span className="text-ink3">
        <At at={r.at} zone={zone} />
      </span>
    </li>
  )
}

const shelfHours = [1, 8, 24, 24 * 7]
const shelfWords = ['an hour', '8 hours', 'a day', 'a week']

/** What somebody has to say of it: each button takes the text along. */
export function Answer({ incident: i }: { incident: Incident }) {
  const role = useSession().data?.role
  const say = useSayOfIncident(i.id)
  const [text, setText] = useState('')
  if (!atLeast(role, 'operator')) return null
  const send = (body: IncidentSaying) => say.mutate({ ...body, text: text.trim() }, { onSuccess: () => setText('') })
  const note = (e: FormEvent) => {
    e.preventDefault()
    if (text.trim()) send({ what: 'note' })
  }
  return (
    <form onSubmit={note} className="mt-2.5 flex flex-wrap items-center gap-2">
      <div className="min-w-52 flex-1 max-sm:w-full max-sm:flex-none">
        <Field
          aria-label={`What you have to say of ${i.device}`}
          placeholder="What you know of it"
          maxLength={2000}
          value={text}
          onChange={setText}
        />
      </div>
      {!i.seen && <Button onClick={() => send({ what: 'seen' })}>I see to it</Button>}
      <Button type="submit" disabled={!text.trim()}>
        Note it
      </Button>
      {i.shelved ? (
        <Button onClick={() => send({ what: 'unshelve' })}>Take it off the shelf</Button>
      ) : (
        <select
          aria-label={`Shelve the incident of ${i.device}`}
          className="h-8 rounded-md border border-rule2 bg-panel px-2 max-sm:h-11"
          value=""
          onChange={(e) =>
            send({ what: 'shelve', until: new Date(Date.now() + Number(e.target.value) * 3_600_000).toISOString() })
          }
        >
          <option value="" disabled>
            Shelve it for…
          </option>
          {shelfHours.map((h, n) => (
            <option key={h} value={h}>
              {shelfWords[n]}
            </option>
          ))}
        </select>
      )}
      {say.isError && <p className="w-full text-hung">{say.error.message}</p>}
    </form>
  )
}

/** Who knows of it, and who will, in one line. */
function ToldWords({ incident: i }: { incident: Incident }) {
  const told = useTold(i.id).data
  if (!told) return null
  const knows = [...new Set(told.notes.filter((n) => n.state === 'sent').map((n) => n.title))]
  const waits = [...new Set(told.notes.filter((n) => n.state === 'queued' || n.state === 'failed').map((n) => n.title))]
  const next = told.turns[0]
  const words = []
  if (knows.length > 0) words.push(`Told: ${knows.join(', ')}.`)
  if (waits.length > 0) words.push(`Not reached yet: ${waits.join(', ')}.`)
  if (words.length === 0 && !next) words.push('Nobody is told of it: no rule fits.')
  return (
    <p className="mt-1.5 text-ink2">
      {words.join(' ')}
      {next && (
        <>
          {' '}
          Next: {next.title}, <At at={next.due} zone={told.zone} />
        </>
      )}
    </p>
  )
}
