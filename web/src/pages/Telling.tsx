import { type FormEvent, useState } from 'react'
import { Link } from 'react-router'
import { useBoard, useSession } from '../api/hooks'
import {
  type Channel,
  type Note,
  type Turn,
  useChannels,
  useNotes,
  usePreviewTelling,
  useSetTelling,
  useTelling,
  useTestChannel,
} from '../api/telling'
import { atLeast } from '../parts/consent'
import { At } from '../parts/time'
import { Button, Loading, Wrong } from '../parts/ui'

const field = 'min-h-8 rounded-md border border-rule2 bg-panel px-2 max-sm:min-h-11'
const head = 'h-8 text-left text-[12px] text-ink3 [&>th]:px-3 [&>th]:font-normal'

/** Who is told of what is wrong: by what, by which rules, and what was sent. */
export function TellingPage() {
  return (
    <div className="flex max-w-5xl flex-col gap-6 px-5 py-4 max-sm:px-3.5">
      <div>
        <h1 className="text-[21px] font-bold">Who is told</h1>
        <p className="mt-1 text-ink2">
          When something is wrong, and nobody looks: people, by which ways, in which order, and what they were told.
        </p>
      </div>
      <Preview />
      <Sent />
      <Channels />
      <Plan />
    </div>
  )
}

const kinds = ['hung', 'silent', 'dark', 'strained', 'late', 'owed', 'missed']

function Preview() {
  const devices = useBoard().data?.devices.map((d) => d.key) ?? []
  const [device, setDevice] = useState('')
  const [kind, setKind] = useState('hung')
  const [at, setAt] = useState('')
  const on = device || devices[0] || ''
  const query = { device: on, kind, ...(at && { at: new Date(at).toISOString() }) }
  const shown = usePreviewTelling(query)
  return (
    <section aria-label="Who would be told">
      <h2 className="mb-2 text-[17px] font-semibold">Who would be told</h2>
      <div className="flex flex-wrap items-end gap-2 text-[12.5px]">
        <label className="flex flex-col gap-1">
          If this device
          <select className={field} value={on} onChange={(e) => setDevice(e.target.value)}>
            {devices.map((d) => (
              <option key={d}>{d}</option>
            ))}
          </select>
        </label>
        <label className="flex flex-col gap-1">
          were
          <select className={field} value={kind} onChange={(e) => setKind(e.target.value)}>
            {kinds.map((k) => (
              <option key={k}>{k}</option>
            ))}
          </select>
        </label>
        <label className="flex flex-col gap-1">
          from this time on; now, when empty
          <input className={field} type="datetime-local" value={at} onChange={(e) => setAt(e.target.value)} />
        </label>
      </div>
      {shown.isError && <Wrong error={shown.error} />}
      {shown.data && <Turns turns={shown.data.turns} zone={shown.data.zone} />}
    </section>
  )
}

function Turns({ turns, zone }: { turns: Turn[]; zone: string }) {
  if (turns.length === 0)
    return <p className="mt-2 font-semibold text-strained">Nobody: no rule fits, or nobody is on duty.</p>
  return (
    <ol className="mt-2 flex flex-col border-l-2 border-rule2">
      {turns.map((t) => (
        <li key={`${t.person} ${t.service}`} className="flex gap-3 py-1 pl-3 max-sm:flex-col max-sm:gap-0">
          <span className="w-36 shrink-0 text-ink3 tabular-nums">
            <At at={t.due} zone={zone} />
          </span>
          <span className="min-w-0 break-words">
            <b>{t.title}</b> by {t.ways.join(', else ')}{' '}
            <span className="text-ink3">
              (rule {t.rule}
              {t.step > 1 && ', while nobody sees to it'}
              {t.service && '; as a service call'}
              {t.held && `; held: ${t.held}`})
            </span>
          </span>
        </li>
      ))}
    </ol>
  )
}

const states: Record<Note['state'], string> = {
  queued: 'waits',
  sending: 'is being sent',
  sent: 'sent',
  failed: 'could not be sent',
  dropped: 'not needed any more',
}

function Sent() {
  const notes = useNotes()
  const [open, setOpen] = useState('')
  if (notes.isPending) return <Loading what="what was sent" />
  if (notes.isError) return <Wrong error={notes.error} retry={() => void notes.refetch()} />
  const shown = notes.data.filter((n) => n.state !== 'dropped')
  return (
    <section aria-label="What was sent">
      <h2 className="mb-2 text-[17px] font-semibold">What was sent</h2>
      {shown.length === 0 && <p className="text-ink2">Nobody was told of anything yet.</p>}
      <ul className="flex flex-col">
        {shown.map((n) => (
          <li key={n.id} className="border-t border-rule py-1.5">
            <div className="flex flex-wrap gap-x-3">
              <span className="w-36 shrink-0 text-ink3 tabular-nums">
                <At at={n.at ?? n.due} zone={Intl.DateTimeFormat().resolvedOptions().timeZone} />
              </span>
              <b>{n.title}</b>
              <button
                type="button"
                className="min-w-0 text-left break-words hover:underline"
                onClick={() => setOpen(open === n.id ? '' : n.id)}
              >
                {n.subject || 'not written yet'}
              </button>
              <span
                className={n.state === 'failed' || (n.state === 'queued' && n.tries > 0) ? 'text-hung' : 'text-ink3'}
              >
                {states[n.state]}
                {n.channel && ` by ${n.channel}`}
                {n.state === 'queued' && n.held && `: ${n.held}`}
              </span>
            </div>
            {open === n.id && (
              <div className="mt-1 rounded-md bg-sunk p-2">
                <pre className="overflow-x-auto font-mono text-[12px]">
                  {n.text || 'It is written when it is sent.'}
                </pre>
                <p className="mt-1 text-[12px] text-ink3">
                  {n.says}{' '}
                  {n.incident && (
                    <Link className="hover:underline" to={`/incidents/${n.incident}`}>
                      The incident
                    </Link>
                  )}
                </p>
              </div>
            )}
          </li>
        ))}
      </ul>
    </section>
  )
}

function Channels() {
  const channels = useChannels()
  if (channels.isPending) return <Loading what="the channels" />
  if (channels.isError) return <Wrong error={channels.error} retry={() => void channels.refetch()} />
  return (
    <section aria-label="Channels">
      <h2 className="mb-2 text-[17px] font-semibold">Channels</h2>
      {channels.data.length === 0 ? (
        <p className="text-ink2">
          There is none: a keeper adds one with <code>plumb channel set</code>.
        </p>
      ) : (
        <div className="overflow-x-auto rounded-lg border border-rule bg-panel">
          <table className="w-full border-collapse">
            <thead>
              <tr className={head}>
                <th>Channel</th>
                <th className="max-sm:hidden">Where</th>
                <th className="max-md:hidden">Tells</th>
                <th>Try it</th>
              </tr>
            </thead>
            <tbody>
              {channels.data.map((c) => (
                <ChannelRow key={c.name} channel={c} />
              ))}
            </tbody>
          </table>
        </div>
      )}
    </section>
  )
}

const withAddress = ['mail', 'text']

function ChannelRow({ channel: c }: { channel: Channel }) {
  const role = useSession().data?.role
  const test = useTestChannel(c.name)
  const [to, setTo] = useState('')
  const s = c.settings
  const send = (e: FormEvent) => {
    e.preventDefault()
    test.mutate(to)
  }
  return (
    <tr className="border-t border-rule align-top [&>td]:px-3 [&>td]:py-1.5">
      <td>
        <b>{c.name}</b> <span className="text-ink3">{s.kind}</span>
      </td>
      <td className="break-all text-ink2 max-sm:hidden">{s.server ?? s.url ?? s.port}</td>
      <td className="text-ink2 max-md:hidden">{c.people.join(', ') || 'nobody'}</td>
      <td>
        {atLeast(role, 'steward') && (
          <form className="flex flex-wrap items-center gap-2" onSubmit={send}>
            {withAddress.includes(s.kind) && (
              <input
                aria-label={`An address at ${c.name}`}
                placeholder={s.kind === 'mail' ? 'name@example' : '+298…'}
                className={`${field} w-44`}
                value={to}
                onChange={(e) => setTo(e.target.value)}
              />
            )}
            <Button type="submit" disabled={test.isPending}>
              Send a test
            </Button>
          </form>
        )}
        {test.isSuccess && <p className="mt-1 text-[12px] text-ink3">It was taken: {test.data.says}</p>}
        {test.isError && <p className="mt-1 text-[12px] text-hung">{test.error.message}</p>}
      </td>
    </tr>
  )
}

function Plan() {
  const plan = useTelling()
  const role = useSession().data?.role
  const set = useSetTelling()
  const [text, setText] = useState<string>()
  if (plan.isPending) return <Loading what="the rules" />
  if (plan.isError) return <Wrong error={plan.error} retry={() => void plan.refetch()} />
  const shown = text ?? plan.data.text
  const lacks = set.data?.lacks ?? plan.data.lacks
  const changed = text !== undefined && text !== plan.data.text
  return (
    <section aria-label="People and rules">
      <h2 className="mb-2 text-[17px] font-semibold">People and rules</h2>
      {lacks.map((l) => (
        <p key={l} className="border-l-2 border-strained pl-2 text-[12.5px] text-ink2">
          {l}
        </p>
      ))}
      <textarea
        aria-label="People and rules"
        className="mt-2 h-96 w-full rounded-md border border-rule2 bg-panel p-2 font-mono text-[12px]"
        spellCheck={false}
        readOnly={!atLeast(role, 'steward')}
        value={shown}
        onChange={(e) => setText(e.target.value)}
      />
      {set.isError && <pre className="mt-1 text-[12.5px] whitespace-pre-wrap text-hung">{set.error.message}</pre>}
      {set.isSuccess && !changed && (
        <p className="mt-1 text-[12.5px] text-ink2">
          It counts: {set.data.people} people, {set.data.rules} rules.
        </p>
      )}
      {atLeast(role, 'steward') && (
        <div className="mt-2 flex gap-2">
          <Button disabled={!changed || set.isPending} onClick={() => set.mutate({ text: shown, check: true })}>
            Look whether it is right
          </Button>
          <Button
            tone="strong"
            disabled={!changed || set.isPending}
            onClick={() => set.mutate({ text: shown, check: false })}
          >
            Have it count
          </Button>
          {changed && <Button onClick={() => setText(undefined)}>As it was</Button>}
        </div>
      )}
    </section>
  )
}
