import type { NamedText, PhaseReading, Supply, SupplyBrief, SupplyCommand } from '../api/client'
import { useCommandSupply, useSupply } from '../api/hooks'
import { ButtonLink } from '../parts/ButtonLink'
import { At } from '../parts/time'
import { Button, Card, Facts } from '../parts/ui'
import { Gauge } from './Gauge'

const tone: Record<SupplyBrief['level'], string> = {
  absent: 'text-ink3',
  fine: '',
  warning: 'text-strained',
  critical: 'text-hung',
}

/** How a UPS is, in a line and three bars. */
export function SupplyState({ supply: u }: { supply: SupplyBrief }) {
  return (
    <div>
      <p className={`font-semibold ${tone[u.level]}`}>
        {u.state}
        {!u.fresh && u.at && <span className="font-normal text-ink3"> – stale</span>}
      </p>
      <div className="mt-1.5 grid grid-cols-[auto_1fr_auto] items-center gap-x-3 gap-y-1">
        <span className="text-ink3">load</span>
        <Gauge share={u.load === undefined ? undefined : u.load / 100} />
        <span className="text-right">{u.loadW === undefined ? '–' : `${Math.round(u.loadW)} W`}</span>
        <span className="text-ink3">charge</span>
        <Gauge share={u.charge === undefined ? undefined : u.charge / 100} full />
        <span className="text-right">{u.charge === undefined ? '–' : `${Math.round(u.charge)} %`}</span>
      </div>
      <Minutes supply={u} />
    </div>
  )
}

/** How long it lasts: as it says, as its past does, and without what nobody needs. */
function Minutes({ supply: u }: { supply: SupplyBrief }) {
  const figures: [string, number | undefined][] = [
    ['as it says', u.minutes],
    ['by its past', u.minutesByPast],
    ['after shedding', u.minutesAfterShed],
  ]
  const left = u.minutesByPast ?? u.minutes
  return (
    <>
      <dl className="mt-2 flex flex-wrap gap-x-5 gap-y-1">
        {figures.map(
          ([name, v]) =>
            v !== undefined && (
              <div key={name}>
                <dt className="text-[12px] text-ink3">{name}</dt>
                <dd className={`text-[17px] font-semibold ${v < u.lowMinutes ? 'text-hung' : ''}`}>
                  {Math.round(v)} min
                </dd>
              </div>
            ),
        )}
      </dl>
      {u.minutesToDo !== undefined && (
        <p className={`mt-1 text-[12px] ${left !== undefined && left < u.minutesToDo ? 'text-hung' : 'text-ink2'}`}>
          Shutting down in order what hangs on it takes about {Math.ceil(u.minutesToDo)} min.
        </p>
      )}
      {u.disagree && (
        <p className="mt-1 text-[12px] text-strained">
          It and its {u.discharges} past discharges tell of different batteries: trust the past.
        </p>
      )}
    </>
  )
}

/** All that a UPS says of itself, and what it can be told. */
export function SupplyCard({ device, zone }: { device: string; zone: string }) {
  const supply = useSupply(device)
  return (
    <Card title="UPS">
      {supply.isPending && <p className="text-ink3">Loading what it says…</p>}
      {supply.isError && <p className="text-hung">{supply.error.message}</p>}
      {supply.data && <Whole supply={supply.data} zone={zone} />}
    </Card>
  )
}

function Whole({ supply: s, zone }: { supply: Supply; zone: string }) {
  const rows: [string, string][] = [
    ...facts(s.sheet),
    ...phases('input', s.inputs),
    ...phases('output', s.outputs),
    ...phases('bypass', s.bypasses),
    [
      'battery',
      [s.batteryStatus, measure(s.brief.batteryV, 'V'), measure(s.brief.temperature, '°C')].filter(Boolean).join(', '),
    ],
    ...facts(s.test),
    ...facts(s.control),
  ]
  return (
    <>
      <div className="max-w-md">
        <SupplyState supply={s.brief} />
      </div>
      {s.alarms.map((a) => (
        <p key={a.name} className={`mt-1 ${tone[a.level]}`}>
          Alarm: {a.text}.
        </p>
      ))}
      {s.brief.shed && s.brief.shed.length > 0 && (
        <p className="mt-2 text-ink2">Hangs on it and is not essential: {s.brief.shed.join(', ')}.</p>
      )}
      <Tell device={s.brief.device} off={s.brief.state === 'output off'} />
      <div className="mt-3 grid grid-cols-2 gap-x-8 max-md:grid-cols-1">
        <Facts rows={rows.filter(([, v]) => v !== '')} className="content-start" />
        <Discharges supply={s} zone={zone} />
      </div>
      <details className="mt-3">
        <summary className="text-ink3">How it is set up</summary>
        <Facts rows={facts(s.config)} className="mt-1" />
      </details>
    </>
  )
}

function Discharges({ supply: s, zone }: { supply: Supply; zone: string }) {
  if (s.discharges.length === 0) return null
  return (
    <div>
      <h3 className="mb-1 text-[12px] text-ink3">Discharges</h3>
      <ul>
        {s.discharges.slice(0, 6).map((d) => (
          <li key={d.began} className="flex flex-wrap justify-between gap-x-3 border-t border-rule py-1">
            <At at={d.began} zone={zone} />
            <span className="text-ink2">
              {lasted(d.began, d.ended)} at {Math.round(d.w)} W, {Math.round(d.from)} → {Math.round(d.to)} %
            </span>
          </li>
        ))}
      </ul>
    </div>
  )
}

function lasted(began: string, ended: string): string {
  const s = Math.round((Date.parse(ended) - Date.parse(began)) / 1000)
  return s < 120 ? `${s} s` : `${Math.floor(s / 60)} min ${s % 60} s`
}

const facts = (list: NamedText[]): [string, string][] => list.map((x) => [x.name, x.text])
const measure = (v: number | undefined, unit: string) => (v === undefined ? '' : `${Math.round(v * 10) / 10} ${unit}`)

function phases(name: string, list: PhaseReading[]): [string, string][] {
  return list.map((p, i) => [
    list.length > 1 ? `${name} ${i + 1}` : name,
    [measure(p.v, 'V'), measure(p.hz, 'Hz'), measure(p.a, 'A'), measure(p.w, 'W')].filter(Boolean).join(', '),
  ])
}

/** What a UPS can be told; its output is switched like any other source of power. */
function Tell({ device, off }: { device: string; off: boolean }) {
  const tell = useCommandSupply(device)
  const say = (body: SupplyCommand) => tell.mutate(body)
  return (
    <div className="mt-3">
      <div className="flex flex-wrap gap-2">
        <Button disabled={tell.isPending} onClick={() => say({ do: 'quick-test' })}>
          Test for some seconds
        </Button>
        <Button disabled={tell.isPending} onClick={() => say({ do: 'test' })}>
          Run its self-test
        </Button>
        <Button disabled={tell.isPending} onClick={() => say({ do: 'cancel' })}>
          Take back what counts down
        </Button>
        {off ? (
          <ButtonLink to={`?act=on&on=${device}`}>Switch its output on…</ButtonLink>
        ) : (
          <>
            <ButtonLink to={`?act=cycle&on=${device}`}>Cycle its output…</ButtonLink>
            <ButtonLink to={`?act=off&on=${device}`}>Switch its output off…</ButtonLink>
          </>
        )}
      </div>
      {tell.isError && (
        <p role="alert" className="mt-2 text-hung">
          {tell.error.message}
        </p>
      )}
      {tell.isSuccess && <p className="mt-2 text-ink2">It has been told, and what it says now stands below.</p>}
    </div>
  )
}
