import { Link, useSearchParams } from 'react-router'
import type { Incident } from '../api/client'
import { useIncidents } from '../api/hooks'
import { kindWords, OpenIncident } from '../incident/Card'
import { Field } from '../parts/consent'
import { capital } from '../parts/say'
import { At, age } from '../parts/time'
import { Loading, Wrong } from '../parts/ui'

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
      <div className="flex flex-wrap items-baseline gap-x-4">
        <h1 className="text-[21px] font-bold">Incidents</h1>
        <Link className="text-ink2 hover:underline" to="/telling">
          Who is told of them
        </Link>
      </div>
      <div className="mt-3 flex flex-col gap-3">
        {loud.map((i) => (
          <OpenIncident key={i.id} incident={i} />
        ))}
        {loud.length === 0 && <p className="text-ink2">Nothing is wrong that somebody would have to see to.</p>}
        {shelved.length > 0 && <h2 className="mt-2 font-semibold">On the shelf</h2>}
        {shelved.map((i) => (
          <OpenIncident key={i.id} incident={i} />
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
                <Link className="hover:underline" to={`/incidents/${i.id}`}>
                  <At at={i.opened} zone={i.zone} />
                </Link>
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
