import * as Menu from '@radix-ui/react-dropdown-menu'
import { lazy, Suspense, useState } from 'react'
import { Link, useParams } from 'react-router'
import type { Device, HopState, Operation } from '../api/client'
import { useDevice, useDraw } from '../api/hooks'
import { ControllerCard } from '../inside/Controller'
import { EventLog } from '../inside/EventLog'
import { Readings } from '../inside/Readings'
import { SheetCard } from '../inside/Sheet'
import { Strands } from '../marks/lines'
import { ink, Mark, words } from '../marks/Mark'
import { actionName, actionsFor, counted, switchedOutlets } from '../parts/say'
import { ToThePlace } from '../parts/ToThePlace'
import { At, wattHours, watts } from '../parts/time'
import { Card, Loading, Wrong } from '../parts/ui'
import { Why } from '../parts/Why'
import { CardCard, PortsCard } from '../power/Gear'
import { HistoryCard } from '../power/History'
import { SupplyCard } from '../power/Supply'
import { LastScreen } from '../serial/LastScreen'
import { Leads } from '../serial/Leads'

const Chart = lazy(() => import('../parts/Chart').then((m) => ({ default: m.Chart })))

export function DevicePage() {
  const { key = '' } = useParams()
  const device = useDevice(key)
  if (device.isPending) return <Loading what={key} />
  if (device.isError) return <Wrong error={device.error} retry={() => void device.refetch()} />
  return <Loaded key={key} device={device.data} />
}

function Loaded({ device }: { device: Device }) {
  const d = device.summary
  const v = d.verdict
  const shows = (part: Device['shows'][number]) => device.shows.includes(part)
  return (
    <div className="px-5 py-4 max-sm:px-3.5">
      <header className="mb-3.5 flex flex-wrap items-center gap-x-4 gap-y-3">
        <div className="flex min-w-0 flex-wrap items-center gap-x-3 gap-y-1">
          <Mark state={v.state} size={28} />
          <h1 className="text-[21px] font-bold">{d.key}</h1>
          <span className={`font-semibold ${ink[v.state]}`}>{words(v.state)}</span>
          <span className="text-ink2">{[d.words, d.site, d.place, ...device.tags].filter(Boolean).join(' · ')}</span>
          {d.guarded && <span className="rounded border border-rule2 px-1.5 text-[12px] text-ink2">guarded</span>}
        </div>
        <div className="ml-auto flex gap-2 max-sm:ml-0 max-sm:w-full max-sm:flex-col">
          <Actions device={device} />
        </div>
      </header>
      <div className="grid grid-cols-[minmax(0,24.5rem)_minmax(0,1fr)] items-start gap-3.5 max-lg:grid-cols-1">
        <div className="flex flex-col gap-3.5 max-lg:contents">
          <LinesCard device={device} />
          <WaysIn device={device} />
          {shows('screen') && <ToThePlace device={device} kind="screen" />}
          {shows('serial') && <ToThePlace device={device} kind="serial" />}
          {shows('controller') && (
            <div className="max-lg:order-5">
              <ControllerCard device={device} />
            </div>
          )}
          <div className="max-lg:order-6">
            <SheetCard device={d.key} />
          </div>
          {shows('ports') && (
            <div className="max-lg:order-5">
              <PortsCard device={d.key} />
            </div>
          )}
          {shows('card') && (
            <div className="max-lg:order-6">
              <CardCard device={d.key} zone={device.zone} />
            </div>
          )}
          {(device.notes || device.behind.length > 0) && <About device={device} />}
        </div>
        <div className="flex flex-col gap-3.5 max-lg:contents">
          <Why device={device} />
          {shows('serial') && <LastScreen device={device} />}
          {shows('supply') && (
            <div className="max-lg:order-2">
              <SupplyCard device={d.key} zone={device.zone} />
            </div>
          )}
          <DrawCard device={device} />
          {shows('sensors') && (
            <div className="max-lg:order-3">
              <Readings device={d.key} zone={device.zone} />
            </div>
          )}
          {shows('events') && (
            <div className="max-lg:order-4">
              <EventLog device={d.key} zone={device.zone} />
            </div>
          )}
          {device.outlets.length > 0 && <Outlets device={device} />}
          <div className="max-lg:order-5">
            <HistoryCard device={d.key} zone={device.zone} />
          </div>
          <Operations device={device} />
        </div>
      </div>
    </div>
  )
}

const atOnce = 2

/** The likely actions as buttons, the others in a menu. */
function Actions({ device }: { device: Device }) {
  const d = device.summary
  const acts = actionsFor(d)
  const more = acts.slice(atOnce)
  const outlets = switchedOutlets(d)
  const gentler = acts.some((a) => a.kind === 'cycle' && a.means !== 'outlet' && a.means !== 'poe')
  return (
    <>
      {acts.slice(0, atOnce).map((act, i) => (
        <Link
          key={act.kind}
          to={`?act=${act.kind}&on=${d.key}`}
          className={`inline-flex min-h-8 items-center justify-center rounded-md border px-3 font-medium max-sm:min-h-11 ${i === 0 ? 'border-ink bg-ink text-panel' : 'order-first border-rule2 bg-panel max-sm:order-none'}`}
        >
          {actionName(act.kind, act.means, outlets)}…
        </Link>
      ))}
      {(more.length > 0 || gentler) && (
        <Menu.Root modal={false}>
          <Menu.Trigger className="order-first inline-flex min-h-8 items-center justify-center rounded-md border border-rule2 bg-panel px-3 font-medium max-sm:order-none max-sm:min-h-11">
            More…
          </Menu.Trigger>
          <Menu.Portal>
            <Menu.Content
              align="end"
              sideOffset={6}
              className="z-40 min-w-52 rounded-md border border-rule2 bg-panel p-1"
            >
              {more.map((act) => (
                <MenuLink
                  key={act.kind}
                  to={`?act=${act.kind}&on=${d.key}`}
                  name={actionName(act.kind, act.means, outlets)}
                />
              ))}
              {gentler && outlets.length > 0 && (
                <MenuLink to={`?act=cycle&on=${d.key}&means=outlet`} name={actionName('cycle', 'outlet', outlets)} />
              )}
            </Menu.Content>
          </Menu.Portal>
        </Menu.Root>
      )}
    </>
  )
}

function MenuLink({ to, name }: { to: string; name: string }) {
  return (
    <Menu.Item asChild>
      <Link to={to} className="block rounded px-3 py-1.5 outline-none data-[highlighted]:bg-sunk max-sm:py-3">
        {name}…
      </Link>
    </Menu.Item>
  )
}

function LinesCard({ device }: { device: Device }) {
  const d = device.summary
  const below =
    d.verdict.state === 'hung' || d.verdict.state === 'silent' || d.verdict.state === 'dark'
      ? counted(device.behind)
      : undefined
  const columns = [
    { name: 'Power line', strands: device.power },
    { name: 'Reach line', strands: device.reach },
  ].filter((c) => c.strands.length > 0)
  return (
    <section className="grid grid-cols-2 gap-4 rounded-lg border border-rule bg-panel p-4 max-lg:order-2">
      {columns.map((c) => (
        <div key={c.name} className="min-w-0">
          <h2 className="mb-3 text-[12px] font-medium text-ink3">{c.name}</h2>
          <Strands strands={c.strands} self={d.key} below={c.name === 'Reach line' ? below : undefined} />
        </div>
      ))}
      {columns.length === 0 && <p className="text-ink3">The estate knows no cable of it.</p>}
    </section>
  )
}

const wayTone: Record<HopState, string> = { sound: '', broken: 'text-hung', slack: 'text-ink3', unknown: 'text-ink3' }

function WaysIn({ device }: { device: Device }) {
  const ways = device.summary.waysIn
  return (
    <div className="max-lg:order-4">
      <Card title="Ways in">
        {ways.length === 0 && (
          <p className="text-ink3">There is none that the estate knows: if it hangs, somebody has to go there.</p>
        )}
        <dl className="grid grid-cols-[auto_1fr] gap-x-3 gap-y-1.5">
          {ways.map((w) => (
            <div key={w.label} className="contents">
              <dt className="font-medium">{w.label}</dt>
              <dd className={wayTone[w.state]}>{w.text}</dd>
            </div>
          ))}
        </dl>
        <Leads device={device} />
      </Card>
    </div>
  )
}

function About({ device }: { device: Device }) {
  return (
    <div className="max-lg:order-6">
      <Card title="About it">
        {device.notes && <p>{device.notes}</p>}
        {device.behind.length > 0 && (
          <p className="mt-2 text-ink2">
            Reached through it alone:{' '}
            {device.behind.map((b, i) => (
              <span key={b}>
                {i > 0 && ', '}
                <Link className="hover:underline" to={`/devices/${b.split(' ')[0]}`}>
                  {b}
                </Link>
              </span>
            ))}
          </p>
        )}
      </Card>
    </div>
  )
}

const spans = [
  { hours: 0.25, name: '15 min' },
  { hours: 2, name: '2 h' },
  { hours: 12, name: '12 h' },
]

function DrawCard({ device }: { device: Device }) {
  const d = device.summary
  const [hours, setHours] = useState(2)
  const draw = useDraw(d.key, hours)
  const wrong =
    d.verdict.state === 'hung' || d.verdict.state === 'silent' || d.verdict.state === 'dark'
      ? d.verdict.since
      : undefined
  if (device.power.length === 0) return null
  return (
    <div className="max-lg:order-3">
      <Card
        title={
          <>
            Draw, last{' '}
            {spans.map((s) => (
              <button
                key={s.hours}
                type="button"
                aria-pressed={hours === s.hours}
                onClick={() => setHours(s.hours)}
                className={`mr-1 rounded px-1.5 py-0.5 ${hours === s.hours ? 'bg-sunk font-semibold text-ink' : 'hover:text-ink'}`}
              >
                {s.name}
              </button>
            ))}
          </>
        }
        aside={<Figures draw={draw.data} now={d.w} />}
      >
        {draw.isError ? (
          <p className="text-hung">{draw.error.message}</p>
        ) : draw.data && draw.data.at.length === 0 ? (
          <p className="py-6 text-ink3">Nothing has been measured in this time.</p>
        ) : (
          <Suspense fallback={<div className="h-[176px]" />}>
            {draw.data ? (
              <Chart
                curve={{ ...draw.data, mean: draw.data.w }}
                unit="W"
                from={draw.data.from}
                to={draw.data.to}
                zone={device.zone}
                marks={device.operations.map((o) => ({ at: Date.parse(o.asked), text: `${o.kind} by ${o.by}` }))}
                wrongSince={wrong === undefined ? undefined : Date.parse(wrong)}
              />
            ) : (
              <div className="h-[176px]" />
            )}
          </Suspense>
        )}
      </Card>
    </div>
  )
}

function Figures({
  draw,
  now,
}: {
  draw: { mean?: number; peak?: number; wh?: number } | undefined
  now: number | undefined
}) {
  const figures = [
    ['now', watts(now)],
    ['mean', watts(draw?.mean)],
    ['peak', watts(draw?.peak)],
    ['used', wattHours(draw?.wh)],
  ]
  return (
    <span className="flex flex-wrap gap-x-3">
      {figures.map(
        ([name, value]) =>
          value && (
            <span key={name}>
              {name} <b className="font-semibold text-ink">{value}</b>
            </span>
          ),
      )}
    </span>
  )
}

function Outlets({ device }: { device: Device }) {
  return (
    <div className="max-lg:order-5">
      <Card title="Outlets">
        <table className="w-full border-collapse">
          <thead>
            <tr className="text-left text-[12px] text-ink3 [&>th]:py-1 [&>th]:pr-3 [&>th]:font-normal">
              <th className="w-14">No.</th>
              <th>Feeds</th>
              <th>State</th>
              <th className="max-md:hidden">After a power loss</th>
              <th className="text-right">Draw</th>
              <th className="w-24" />
            </tr>
          </thead>
          <tbody>
            {device.outlets.map((o) => (
              <tr key={o.port} className="h-8 border-t border-rule [&>td]:pr-3">
                <td className="font-medium">{o.port}</td>
                <td>
                  {o.feeds.length > 0 ? (
                    o.feeds.map((f) => (
                      <Link key={f} className="hover:underline" to={`/devices/${f}`}>
                        {f}
                      </Link>
                    ))
                  ) : (
                    <span className="text-ink3">nothing that the estate knows</span>
                  )}
                </td>
                <td className={o.fresh ? '' : 'text-ink3'}>
                  {o.on === undefined ? 'not known' : o.on ? 'on' : 'off'}
                  {o.on && o.giving === false && (o.trouble ? `, gives none: ${o.trouble}` : ', not taken')}
                  {!o.fresh && o.at && (
                    <>
                      , stale since <At at={o.at} zone={device.zone} />
                    </>
                  )}
                </td>
                <td className="text-ink2 max-md:hidden">{o.afterLoss}</td>
                <td className={`text-right ${o.fresh ? '' : 'text-ink3'}`}>{watts(o.w)}</td>
                <td className="text-right">
                  {!o.switched ? (
                    <span className="text-[12px] text-ink3">always on</span>
                  ) : (
                    o.feeds[0] && (
                      <Link
                        className="text-[12px] underline"
                        to={`?act=${o.on === false ? 'on' : 'cycle'}&on=${o.feeds[0]}`}
                      >
                        {o.on === false ? 'Switch on…' : 'Cycle…'}
                      </Link>
                    )
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </Card>
    </div>
  )
}

const stateTone: Record<Operation['state'], string> = {
  running: 'text-waking',
  done: '',
  failed: 'text-hung',
  cancelled: 'text-ink3',
}

function Operations({ device }: { device: Device }) {
  return (
    <div className="max-lg:order-5">
      <Card title="Operations">
        {device.operations.length === 0 && <p className="text-ink3">Nothing has been done to it yet.</p>}
        <ul>
          {device.operations.map((o) => (
            <li
              key={o.id}
              className="grid grid-cols-[7.500rem_7rem_1fr] gap-x-4 border-t border-rule py-2 first:border-t-0 max-sm:grid-cols-1"
            >
              <Link className="font-medium hover:underline" to={`?op=${o.id}`}>
                {actionName(o.kind, o.means, o.outlets)}
              </Link>
              <span className="text-ink2">
                <At at={o.asked} zone={device.zone} />
                <br className="max-sm:hidden" /> {o.by}
              </span>
              <span className={stateTone[o.state]}>{o.state === 'running' ? o.doing : o.outcome}</span>
            </li>
          ))}
        </ul>
      </Card>
    </div>
  )
}
