import { useQueries } from '@tanstack/react-query'
import type { ReactNode } from 'react'
import { Link, useParams } from 'react-router'
import type { Incident } from '../api/client'
import { operationQuery, useIncident, useSimilar, useTold } from '../api/hooks'
import { Answer, kindWords } from '../incident/Card'
import { capital } from '../parts/say'
import { At, age, useNow } from '../parts/time'
import { Loading, Wrong } from '../parts/ui'

/** One incident with all that happened: what was seen, told, tried and said. */
export function IncidentPage() {
  const { id = '' } = useParams()
  const one = useIncident(id)
  const now = useNow()
  if (one.isPending) return <Loading what="the incident" />
  if (one.isError) return <Wrong error={one.error} retry={() => void one.refetch()} />
  const i = one.data
  return (
    <div className="max-w-4xl px-5 py-4 max-sm:px-3.5">
      <p className="text-[12.5px] text-ink3">
        <Link className="hover:underline" to="/incidents">
          Incidents
        </Link>{' '}
        / <code>{i.id}</code>
      </p>
      <h1 className="mt-1 text-[21px] font-bold">
        <Link className="hover:underline" to={`/devices/${i.device}`}>
          {i.device}
        </Link>{' '}
        {kindWords(i)}
      </h1>
      <p className="mt-1 text-ink2">
        {i.ended
          ? `It is over, after ${age(Date.parse(i.ended) - Date.parse(i.opened))}.`
          : `Open for ${age(now - Date.parse(i.opened))}.`}{' '}
        {capital(i.text)}.
      </p>
      {i.explains.length > 0 && (
        <p className="mt-1 text-ink2">
          It explains{' '}
          {i.explains.map((d, n) => (
            <span key={d}>
              {n > 0 && ', '}
              <Link className="hover:underline" to={`/devices/${d}`}>
                {d}
              </Link>
            </span>
          ))}
          .
        </p>
      )}
      <Timeline incident={i} />
      {!i.ended && <Answer incident={i} />}
      <Before incident={i} />
    </div>
  )
}

/** What was like it in the past, and what helped then. */
function Before({ incident: i }: { incident: Incident }) {
  const similar = useSimilar(i.id)
  if (!similar.data?.length) return null
  return (
    <section className="mt-6" aria-label="Like it before">
      <h2 className="text-[17px] font-semibold">Like it before</h2>
      <ul className="mt-2 flex flex-col rounded-lg border border-rule bg-panel">
        {similar.data.map((x) => (
          <li key={x.id} className="border-t border-rule px-3 py-2 first:border-t-0">
            <Link className="hover:underline max-sm:inline-block max-sm:min-h-11" to={`/incidents/${x.id}`}>
              <b>{x.device}</b>, <At at={x.opened} zone={i.zone} />
            </Link>
            , for {age(Date.parse(x.ended) - Date.parse(x.opened))}
            <p className="break-words text-ink2">
              {x.helped ? `${x.by}: ${x.helped}` : `It was over by itself: ${x.ending}`}
            </p>
            {x.notes.map((n) => (
              <p key={n} className="text-[12.5px] break-words text-ink3">
                {n}
              </p>
            ))}
          </li>
        ))}
      </ul>
    </section>
  )
}

type Happening = { at: string; key: string; what: ReactNode; later?: boolean }

const noteWords = {
  opened: 'that it is wrong',
  more: 'that it is more by now',
  over: 'that it is over',
  report: 'of the day',
  order: 'by a standing order',
  service: 'with a service call',
}

function Timeline({ incident: i }: { incident: Incident }) {
  const told = useTold(i.id)
  const tried = useQueries({ queries: i.tried.map(operationQuery) })
  const all: Happening[] = [{ at: i.opened, key: 'opened', what: 'It opened' }]
  for (const o of tried) {
    if (!o.data) continue
    const { id, asked, by, outcome } = o.data
    all.push({
      at: asked,
      key: id,
      what: (
        <>
          <b>{by}</b> tried:{' '}
          <Link className="hover:underline" to={`/devices/${i.device}?op=${id}`}>
            {outcome}
          </Link>
        </>
      ),
    })
  }
  if (i.seen)
    all.push({
      at: i.seen.at,
      key: 'seen',
      what: (
        <>
          <b>{i.seen.by}</b> sees to it{i.seen.text && `: ${i.seen.text}`}
        </>
      ),
    })
  for (const n of i.notes)
    all.push({
      at: n.at,
      key: n.at,
      what: (
        <>
          <b>{n.by}</b> noted: {n.text}
        </>
      ),
    })
  for (const n of told.data?.notes ?? []) {
    if (n.state === 'dropped') continue
    const words = n.subject || noteWords[n.what]
    const sent = n.state === 'sent'
    all.push({
      at: n.at ?? n.due,
      key: n.id,
      later: !sent && n.state !== 'failed',
      what: (
        <>
          <b>{n.title}</b>{' '}
          {sent
            ? `was told by ${n.channel}: ${words}`
            : n.state === 'failed'
              ? 'could not be told'
              : `is to be told: ${words}`}
          {n.held && !sent && ` (${n.held})`}
          {!sent && n.tries > 0 && <span className="text-hung"> It failed: {n.says}</span>}
        </>
      ),
    })
  }
  for (const t of told.data?.turns ?? [])
    all.push({
      at: t.due,
      key: `turn ${t.person} ${t.service}`,
      later: true,
      what: (
        <>
          <b>{t.title}</b> {t.service ? 'is sent a service call' : 'is told'}, by {t.ways.join(', else ')}, unless
          somebody sees to it (rule {t.rule})
        </>
      ),
    })
  if (i.ended) all.push({ at: i.ended, key: 'ended', what: `It ended: ${i.ending}` })
  all.sort((a, b) => Date.parse(a.at) - Date.parse(b.at))
  return (
    <ol className="mt-4 flex flex-col border-l-2 border-rule2" aria-label="What happened">
      {all.map((h) => (
        <li key={h.key} className={`flex gap-3 py-1 pl-3 max-sm:flex-col max-sm:gap-0 ${h.later ? 'text-ink3' : ''}`}>
          <span className="w-36 shrink-0 text-ink3 tabular-nums">
            <At at={h.at} zone={i.zone} />
          </span>
          <span className="min-w-0 break-words">{h.what}</span>
        </li>
      ))}
      {told.isError && <li className="py-1 pl-3 text-hung">Who was told cannot be read: {told.error.message}</li>}
      {told.data?.notes.length === 0 && told.data.turns.length === 0 && (
        <li className="py-1 pl-3 text-ink3">Nobody is told of it: no rule fits.</li>
      )}
    </ol>
  )
}
