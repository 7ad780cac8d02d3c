import { useState } from 'react'
import { Link, useSearchParams } from 'react-router'
import type { Failover, Hanger, PowerElement, SitePower } from '../api/client'
import { usePower } from '../api/hooks'
import { watts } from '../parts/time'
import { Card, Loading, Wrong } from '../parts/ui'
import { Gauge } from '../power/Gauge'
import { SupplyState } from '../power/Supply'
import { WiringCard } from '../power/Wiring'

/** The power of each site, from the utility down to the outlets. */
export function PowerPage() {
  const power = usePower()
  const [params, setParams] = useSearchParams()
  if (power.isPending) return <Loading what="the power of the sites" />
  if (power.isError) return <Wrong error={power.error} retry={() => void power.refetch()} />
  const sites = power.data.filter((s) => s.elements.length > 0)
  const site = sites.find((s) => s.site === params.get('site')) ?? sites[0]
  if (!site)
    return <p className="p-5 text-ink3">The estate knows nothing that gives power: add a PDU or a UPS to it.</p>
  return (
    <div className="px-5 py-4 max-sm:px-3.5">
      <nav aria-label="Sites" className="mb-3 flex flex-wrap gap-1.5">
        {sites.map((s) => (
          <button
            key={s.site}
            type="button"
            aria-current={s.site === site.site}
            onClick={() => setParams({ site: s.site })}
            className={`rounded-md border px-2.5 py-1 max-sm:min-h-11 ${s.site === site.site ? 'border-ink3 bg-panel font-semibold' : 'border-rule text-ink2 hover:text-ink'}`}
          >
            {s.name} <span className="font-normal text-ink3">{watts(s.w)}</span>
            {s.utility === 'gone' && <span className="text-hung"> on battery</span>}
          </button>
        ))}
      </nav>
      <Site key={site.site} site={site} />
    </div>
  )
}

function Site({ site }: { site: SitePower }) {
  const tops = site.elements.filter((x) => whole(x) && !site.elements.some((o) => whole(o) && hangsOn(x, o)))
  const balance = site.balance.map((b) => `feed ${b.feed} ${watts(b.w)}`).join(', ')
  return (
    <>
      <header className="mb-3 flex flex-wrap items-baseline gap-x-4">
        <h1 className="text-[21px] font-bold">{site.name}</h1>
        <span className="text-ink2">{[watts(site.w), balance].filter(Boolean).join(' · ')}</span>
      </header>
      <div className="grid grid-cols-[minmax(0,1fr)_minmax(0,24rem)] items-start gap-3.5 max-lg:grid-cols-1">
        <section className="rounded-lg border border-rule bg-panel p-4" aria-label="From the utility down">
          <Utility site={site} />
          {tops.map((x) => (
            <Node key={x.device} site={site} element={x} above={site.utility === 'gone'} />
          ))}
        </section>
        <div className="flex flex-col gap-3.5">
          <Failovers site={site} />
          <WiringCard site={site.site} />
          {site.weaknesses.length > 0 && (
            <Card title="Weak">
              <ul className="flex flex-col gap-2">
                {site.weaknesses.map((w) => (
                  <li key={w.text}>
                    <span className="text-strained">{w.text}.</span>{' '}
                    <span className="text-ink2">Remedy: {w.remedy}.</span>
                  </li>
                ))}
              </ul>
            </Card>
          )}
        </div>
      </div>
    </>
  )
}

const whole = (x: PowerElement) => x.kind !== 'bank' && x.kind !== 'phase'
const hangsOn = (x: PowerElement, o: PowerElement) => x.from.some((f) => f === o.device || f.startsWith(`${o.device}/`))

function Utility({ site }: { site: SitePower }) {
  const gone = site.utility === 'gone'
  return (
    <p className="flex items-baseline gap-2">
      <b className="font-semibold">Utility</b>
      <span className={gone ? 'font-semibold text-hung' : 'text-ink2'}>
        {gone ? 'gone' : site.utilityV !== undefined ? `${Math.round(site.utilityV)} V` : 'not measured'}
      </span>
    </p>
  )
}

/** Something that carries power, hanging from what feeds it, with all that hangs on it. */
function Node({ site, element: x, above }: { site: SitePower; element: PowerElement; above: boolean }) {
  const supply = site.supplies.find((u) => u.device === x.device)
  const parts = site.elements.filter((o) => o.device === x.device && !whole(o))
  const below = site.elements.filter((o) => whole(o) && hangsOn(o, x))
  const hangers = site.hangers.filter((h) => h.from === x.device || h.from.startsWith(`${x.device}/`))
  const slack = above && !supply
  return (
    <div className={`mt-1 ml-1.5 border-l-2 pt-2 pl-4 ${slack ? 'border-dashed border-rule2' : 'border-ink3'}`}>
      <div className="flex flex-wrap items-baseline gap-x-3">
        <Link className="font-semibold hover:underline" to={`/devices/${x.device}`}>
          {x.device}
        </Link>
        <span className="text-ink2">{x.words}</span>
      </div>
      {supply ? (
        <div className="mt-1 max-w-md">
          <SupplyState supply={supply} />
        </div>
      ) : (
        <Load element={x} />
      )}
      {parts.map((p) => (
        <Load key={p.name} element={p} />
      ))}
      {hangers.length > 0 && <Hangers hangers={hangers.filter((h) => !below.some((o) => o.device === h.device))} />}
      {below.map((o) => (
        <Node key={o.device} site={site} element={o} above={slack} />
      ))}
    </div>
  )
}

function Load({ element: x }: { element: PowerElement }) {
  const carries = x.ratingA !== undefined && x.a !== undefined ? `${x.a} of ${x.ratingA} A` : watts(x.w)
  return (
    <div className="mt-1 grid max-w-md grid-cols-[5.5rem_1fr_auto] items-center gap-x-3">
      <span className="text-ink3">{x.name ? `${x.kind} ${x.name}` : 'carries'}</span>
      <Gauge share={x.share} />
      <span className="text-right">
        {carries || 'not measured'}
        {x.headroomW !== undefined && <span className="text-ink3">, {watts(x.headroomW)} left</span>}
        {x.breakerOpen && <b className="text-hung"> breaker open</b>}
      </span>
    </div>
  )
}

const few = 4

/** What hangs on it, outlet by outlet; a long list opens when it is wanted. */
function Hangers({ hangers }: { hangers: Hanger[] }) {
  const [all, setAll] = useState(true)
  if (hangers.length === 0) return null
  const shown = all ? hangers : hangers.slice(0, few)
  return (
    <>
      <ul className="mt-1.5">
        {shown.map((h) => (
          <li
            key={h.from + h.device}
            className="grid min-h-7 grid-cols-[4.5rem_1fr_auto_auto] items-center gap-x-3 border-t border-rule max-sm:min-h-11"
          >
            <span className="text-ink3">{port(h)}</span>
            <span className="min-w-0">
              <Link className="hover:underline" to={`/devices/${h.device}`}>
                {h.device}
              </Link>
              {!h.essential && <span className="text-strained"> not essential</span>}
            </span>
            <span className={h.on === false ? 'text-hung' : 'text-ink3'}>{h.on === false ? 'off' : h.feed}</span>
            <span className="w-20 text-right">{watts(h.w) || '–'}</span>
          </li>
        ))}
      </ul>
      {hangers.length > few && (
        <button type="button" className="mt-1 text-[12px] underline" onClick={() => setAll(!all)}>
          {all ? 'Show fewer' : `Show all ${hangers.length}`}
        </button>
      )}
    </>
  )
}

const port = (h: Hanger) => h.from.split('/')[1] ?? 'output'

function Failovers({ site }: { site: SitePower }) {
  const list = site.failovers.filter((f) => f.alone.length > 0 || f.dark.length > 0)
  if (list.length === 0) return null
  return (
    <Card title="If it is lost">
      <ul className="flex flex-col gap-2.5">
        {list.map((f) => (
          <li key={f.lost}>
            <p className="flex justify-between gap-3">
              <b className="font-semibold">{f.lost}</b>
              <span className={f.holds ? 'text-steady' : overloaded(f) ? 'text-hung' : 'text-ink2'}>
                {f.holds ? 'the rest holds' : overloaded(f) ? 'overloads' : `${f.dark.length} dark`}
              </span>
            </p>
            {f.alone.length > 0 && <p className="text-ink2">{f.alone.length} run on with fewer feeds.</p>}
            {f.dark.length > 0 && <p className="text-ink2">Dark: {f.dark.join(', ')}.</p>}
            {f.shifts
              .filter((s) => s.ratingW !== undefined)
              .map((s) => (
                <p key={s.device + s.name} className={`text-[12px] ${s.over ? 'text-hung' : 'text-ink3'}`}>
                  {[s.device, s.name].filter(Boolean).join(' ')}: {watts(s.beforeW)} → {watts(s.afterW)} of{' '}
                  {watts(s.ratingW)}
                </p>
              ))}
          </li>
        ))}
      </ul>
    </Card>
  )
}

const overloaded = (f: Failover) => f.shifts.some((s) => s.over)
