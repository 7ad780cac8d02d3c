import { type FormEvent, useState } from 'react'
import { Link, useSearchParams } from 'react-router'
import type { Incident, IncidentSaying, Remark } from '../api/client'
import { useIncidents, useOperation, useSayOfIncident, useSession } from '../api/hooks'
import { atLeast, Field } from '../parts/consent'
import { capital } from '../parts/say'
import { At, age, useNow } from '../parts/time'
import { Button, Loading, Wrong } from '../parts/ui'

/** What is wrong, one for each cause, and what was. */
export function IncidentsPage() {
  const [params, setParams] = useSearchParams()
  const find = params.get('find') ?? ''
  const open = useIncidents({ all: false })
  const past = useIncidents({ all: true, limit: 100, ...(find && { text: find }) })
  if (open.isPending) return <Loading what="the incidents" />
  if (open.isError) return <Wrong error={open.error} retry={() => void open.refetch()} />
  const shelved = open.data.filter((i) => i.shelved)
  const loud = open.data.filter((i) => !i.shelved)
  return (
    <div className="px-5 py-4 max-sm:px-3.5">
      <h1 className="text-[21px] font-bold">Incidents</h1>
      <div className="mt-3 flex flex-col gap-3">
        {loud.map((i) => (
          <Open key={i.id} incident={i} />
        ))}
        {loud.length === 0 && <p className="text-ink2">Nothing is wrong that somebody would have to see to.</p>}
        {shelved.length > 0 && <h2 className="mt-2 font-semibold">On the shelf</h2>}
        {shelved.map((i) => (
          <Open key={i.id} incident={i} />
        ))}
      </div>
      <div className="mt-6 mb-2 flex flex-wrap items-center gap-3">
        <h2 className="text-[17px] font-semibold">The past</h2>
        <div className="w-64 max-sm:w-full">
          <Field
            type="search"
            aria-label="Find in incidents"
            placeholder="Find a device or a word"
            value={find}
            onChange={(v) => setParams(v ? { find: v } : {}, { replace: true })}
          />
        </div>
      </div>
      {past.isError ? (
        <Wrong error={past.error} retry={() => void past.refetch()} />
      ) : (
        <Past incidents={(past.data ?? []).filter((i) => i.ended)} />
      )}
    </div>
  )
}

/** Of what an incident is told: hung, or that it has not come back. */
function kindWords(i: Incident) {
  if (i.kind === 'late') return i.ended ? 'did not come back in time' : 'has not come back'
  if (i.kind === 'owed') return i.ended ? 'was owed power' : 'is owed power'
  if (i.kind === 'missed') return 'was to be switched at a time that was missed'
  return `${i.ended ? 'was' : 'is'} ${i.kind.replace('-', ' ')}`
}

function Open({ incident: i }: { incident: Incident }) {
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
        <code className="ml-auto text-[12px] text-ink3">{i.id}</code>
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
function Answer({ incident: i }: { incident: Incident }) {
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

/** What it was, how it ended, and what people said of it. */
function Story({ incident: i }: { incident: Incident }) {
  return (
    <>
      {capital(kindWords(i))}: {i.text}. In the end {i.ending}.{i.seen && ` Seen to by ${i.seen.by}.`}
      {i.notes.map((n) => ` Noted by ${n.by}: ${n.text}.`)}
    </>
  )
}

function Past({ incidents }: { incidents: Incident[] }) {
  if (incidents.length === 0) return <p className="text-ink2">There was none like that.</p>
  return (
    <div className="overflow-x-auto rounded-lg border border-rule bg-panel">
      <table className="w-full border-collapse">
        <thead>
          <tr className="h-8 text-left text-[12px] text-ink3 [&>th]:px-3 [&>th]:font-normal">
            <th>Cause</th>
            <th>Opened</th>
            <th className="max-sm:hidden">Lasted</th>
            <th className="max-md:hidden">Explained</th>
            <th className="max-md:hidden">Tried</th>
            <th className="max-sm:hidden">What, and how it ended</th>
          </tr>
        </thead>
        <tbody>
          {incidents.map((i) => (
            <tr key={i.id} className="border-t border-rule align-top hover:bg-sunk [&>td]:px-3 [&>td]:py-1.5">
              <td>
                <Link className="font-semibold whitespace-nowrap hover:underline" to={`/devices/${i.device}`}>
                  {i.device}
                </Link>
                <div className="text-ink2 sm:hidden">
                  Lasted {age(Date.parse(i.ended ?? '') - Date.parse(i.opened))}. <Story incident={i} />
                </div>
              </td>
              <td className="whitespace-nowrap text-ink2">
                <At at={i.opened} zone={i.zone} />
              </td>
              <td className="whitespace-nowrap text-ink2 max-sm:hidden">
                {age(Date.parse(i.ended ?? '') - Date.parse(i.opened))}
              </td>
              <td className="text-ink2 max-md:hidden">{i.explains.length || '–'}</td>
              <td className="text-ink2 max-md:hidden">{i.tried.length || '–'}</td>
              <td className="text-ink2 max-sm:hidden">
                <Story incident={i} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}
