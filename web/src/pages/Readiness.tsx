import { useState } from 'react'
import { Link } from 'react-router'
import { useSession } from '../api/hooks'
import { type ReadyDevice, type ReadyWay, useDrill, useReadiness } from '../api/readiness'
import { atLeast } from '../parts/consent'
import { At } from '../parts/time'
import { Button, Loading, Opener, Wrong } from '../parts/ui'

const here = Intl.DateTimeFormat().resolvedOptions().timeZone

/** The groups, the worst first, with what they say. */
const groups: { state: ReadyDevice['state']; title: string; note: string }[] = [
  { state: 'lost', title: 'Could not be rescued now', note: 'They have ways, and none of them works.' },
  { state: 'ready', title: 'Could be rescued', note: 'By at least one way that works now.' },
  {
    state: 'none',
    title: 'No way is known',
    note: 'The estate knows no outlet, controller or panel that would take their power and give it back.',
  },
  { state: 'elsewhere', title: 'Another service sees to them', note: '' },
]

/** Which devices could be rescued if they hung now, and what single failure would leave none. */
export function ReadinessPage() {
  const ready = useReadiness()
  const drill = useDrill()
  const role = useSession().data?.role
  if (ready.isPending) return <Loading what="what could be rescued" />
  if (ready.isError) return <Wrong error={ready.error} retry={() => void ready.refetch()} />
  const { devices } = ready.data
  const of = (state: string) => devices.filter((d) => d.state === state)
  const lost = of('lost').length
  return (
    <div className="flex max-w-5xl flex-col gap-6 px-5 py-4 max-sm:px-3.5">
      <div>
        <h1 className="text-[21px] font-bold">Readiness</h1>
        <p className={`mt-1 ${lost > 0 ? 'font-semibold text-hung' : 'text-ink2'}`}>
          {lost > 0
            ? `${lost} of ${lost + of('ready').length} devices could not be rescued if they hung now.`
            : `Each of the ${of('ready').length} devices that have a way could be rescued if it hung now.`}
        </p>
        {atLeast(role, 'operator') && (
          <div className="mt-3 flex flex-wrap items-center gap-x-3 gap-y-1">
            <Button disabled={drill.isPending} onClick={() => drill.mutate()}>
              {drill.isPending ? 'Asking all gear anew…' : 'Drill now'}
            </Button>
            <span className="text-[12.5px] text-ink3">
              Logs in, and reads back what would be switched. Nothing moves.
            </span>
          </div>
        )}
        {drill.isError && <p className="mt-1 text-hung">{drill.error.message}</p>}
      </div>
      {groups.map((g) => (
        <Group key={g.state} {...g} devices={of(g.state)} />
      ))}
    </div>
  )
}

function Group({ title, note, state, devices }: (typeof groups)[number] & { devices: ReadyDevice[] }) {
  const [open, setOpen] = useState('')
  if (devices.length === 0) return null
  const alike = state === 'none' || state === 'elsewhere'
  return (
    <section aria-label={title}>
      <h2 className="text-[17px] font-semibold">
        {title} <span className="font-normal text-ink3">{devices.length}</span>
      </h2>
      <p className="mb-2 text-[12.5px] text-ink3">{state === 'elsewhere' ? devices[0]?.why : note}</p>
      {alike ? (
        <p className="flex flex-wrap gap-x-3 max-sm:gap-y-2">
          {devices.map((d) => (
            <Name key={d.device} device={d.device} />
          ))}
        </p>
      ) : (
        <ul className="flex flex-col rounded-lg border border-rule bg-panel">
          {devices.map((d) => (
            <li key={d.device} className="border-t border-rule px-3 py-2 first:border-t-0">
              <div className="flex flex-wrap items-baseline gap-x-3">
                <Opener name={d.device} open={open} onOpen={setOpen} />
                <span className="text-ink3">{d.site}</span>
                <span className="min-w-0 break-words text-ink2">
                  {d.why ||
                    `by ${d.ways
                      .filter((w) => w.works)
                      .map((w) => w.means)
                      .join(', ')}`}
                </span>
              </div>
              {d.single.length > 0 && (
                <p className="text-[12.5px] break-words text-ink3">
                  None is left if one of these fails: {d.single.join(', ')}
                </p>
              )}
              {open === d.device && (
                <div className="mt-2 flex flex-col gap-2">
                  {d.ways.map((w) => (
                    <Way key={w.means} way={w} />
                  ))}
                  <Name device={d.device} words="All about it" />
                </div>
              )}
            </li>
          ))}
        </ul>
      )}
    </section>
  )
}

function Name({ device, words }: { device: string; words?: string }) {
  return (
    <Link to={`/devices/${device}`} className="self-start underline max-sm:min-h-11 max-sm:content-center">
      {words ?? device}
    </Link>
  )
}

/** One way, and when it was tried. */
function Way({ way: w }: { way: ReadyWay }) {
  return (
    <div className={`border-l-2 pl-2 text-[12.5px] ${w.works ? 'border-rule2' : 'border-hung'}`}>
      <p className="break-words">
        <b>By {w.means}</b>, through {w.by.join(' and ')}: {w.works ? 'works' : w.why}
      </p>
      {w.weak.map((x) => (
        <p key={x} className="break-words text-ink2">
          but {x}
        </p>
      ))}
      {w.needs.length > 0 && <p className="break-words text-ink3">It stands and falls with {w.needs.join(', ')}.</p>}
      <p className="text-ink3">
        <Tried what="used" tried={w.used} /> · <Tried what="drilled" tried={w.drilled} />
      </p>
    </div>
  )
}

function Tried({ what, tried }: { what: string; tried: ReadyWay['used'] }) {
  if (!tried) return <>not {what}, as far as is on record</>
  return (
    <>
      {what} <At at={tried.at} zone={here} />
      {!tried.ok && `, in vain: ${tried.why}`}
    </>
  )
}
