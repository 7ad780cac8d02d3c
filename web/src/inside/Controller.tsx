import { useState } from 'react'
import type { ControllerChange, ControllerSettings, Device, Weakness } from '../api/client'
import { useChangeController, useController } from '../api/hooks'
import { ButtonLink } from '../parts/ButtonLink'
import { Button, Card, Facts } from '../parts/ui'

/** What the controller says of the chassis, what is weak, and its settings. */
export function ControllerCard({ device }: { device: Device }) {
  const c = device.chassis
  return (
    <Card title="Chassis and controller">
      {c ? (
        <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1">
          <dt className="text-ink3">chassis</dt>
          <dd className={c.fresh ? '' : 'text-ink3'}>
            {!c.fresh && 'stale: was '}
            {[c.asleep ? 'asleep' : c.on ? 'on' : 'off', c.w !== undefined && `${c.w} W`, c.state]
              .filter(Boolean)
              .join(', ')}
          </dd>
          <dt className="text-ink3">when power returns</dt>
          <dd className={c.restore === 'stays off' ? 'font-semibold text-strained' : ''}>{c.restore}</dd>
          {c.watchdog && (
            <>
              <dt className="text-ink3">watchdog</dt>
              <dd className="font-semibold text-strained">{c.watchdog}</dd>
            </>
          )}
          {c.faults.length > 0 && (
            <>
              <dt className="text-ink3">faults</dt>
              <dd className="font-semibold text-hung">{c.faults.join(', ')}</dd>
            </>
          )}
        </dl>
      ) : (
        <p className="text-ink3">Its controller has not said anything yet.</p>
      )}
      <Weaknesses list={device.weaknesses} />
      <Settings device={device.summary.key} />
    </Card>
  )
}

export function Weaknesses({ list }: { list: Weakness[] }) {
  if (list.length === 0) return null
  return (
    <section className="mt-4">
      <h3 className="text-[12px] text-ink3">Weaknesses</h3>
      <ul className="flex flex-col gap-2">
        {list.map((w) => (
          <li key={w.text} className="border-l-2 border-strained pl-3">
            <p>{w.text}</p>
            <p className="mt-0.5 font-mono text-[12px] break-words text-ink2">{w.remedy}</p>
          </li>
        ))}
      </ul>
    </section>
  )
}

function Settings({ device }: { device: string }) {
  const [open, setOpen] = useState(false)
  const settings = useController(device, open)
  const [asked, setAsked] = useState<ControllerChange>()
  const ask = (c: ControllerChange) => setAsked(c)
  return (
    <section className="mt-4 border-t border-rule pt-3">
      {!open && <Button onClick={() => setOpen(true)}>Read its settings now</Button>}
      {open && settings.isPending && <p className="text-ink3">Reading its settings: a controller takes a moment…</p>}
      {settings.isError && (
        <p role="alert" className="text-hung">
          {settings.error.message}
        </p>
      )}
      {settings.data && <SettingsTable device={device} settings={settings.data} ask={ask} />}
      {asked && (
        <Confirm key={JSON.stringify(asked)} device={device} change={asked} close={() => setAsked(undefined)} />
      )}
    </section>
  )
}

const boots = ['normal', 'network', 'disk', 'cd', 'setup', 'diagnostics']
const restores = ['comes on', 'as before', 'stays off']

type SettingsProps = { device: string; settings: ControllerSettings; ask: (c: ControllerChange) => void }

function SettingsTable({ device, settings: s, ask }: SettingsProps) {
  const off = Math.round(s.driftSeconds)
  const can = (part: ControllerSettings['changeable'][number]) => s.changeable.includes(part)
  const to = s.alerts.destinations.filter((d) => d.address).map((d) => d.address)
  const rows: [string, React.ReactNode][] = [
    ['address', `${s.network.address ?? '–'} (${s.network.source ?? ''}), mask ${s.network.mask ?? '–'}`],
    ['gateway', `${s.network.gateway || '–'}${s.network.vlan ? `, VLAN ${s.network.vlan}` : ''}`],
    ['connected with', s.suite],
    ['sessions', `${s.sessions} of ${s.sessionSlots} taken`],
    [
      'when power returns',
      can('restore') ? (
        <Choice
          key="r"
          label="When power returns"
          value={s.restore}
          options={restores}
          onPick={(restore) => ask({ restore })}
        />
      ) : (
        s.restore
      ),
    ],
    [
      'next start',
      can('boot') ? (
        <Choice
          key="b"
          label="Next start"
          value={s.boot.device}
          options={boots}
          onPick={(d) => ask({ boot: { device: d } })}
        />
      ) : (
        s.boot.device
      ),
    ],
    [
      'clock',
      <span key="c">
        {Math.abs(off) <= 1 ? 'as ours' : `${Math.abs(off)} s ${off > 0 ? 'ahead of' : 'behind'} ours`}{' '}
        {Math.abs(off) > 1 && can('clock') && (
          <button type="button" className="underline" onClick={() => ask({ setClock: true })}>
            Set it…
          </button>
        )}
      </span>,
    ],
    [
      'watchdog',
      `${s.watchdog.action} after ${s.watchdog.seconds} s${s.watchdog.running ? ', running' : ', not running'}`,
    ],
    ['alerts', s.alerts.enabled ? `on, to ${to.join(', ') || 'nobody'}` : 'off'],
    ['power limit', s.limitW ? `${s.limitW} W` : 'none'],
    ...s.users.map((u): [string, string] => [
      `user ${u.id}`,
      `${u.name || '(without a name)'}, ${u.privilege}${u.enabled && u.logsIn ? '' : ', may not log in'}`,
    ]),
  ]
  return (
    <>
      <Facts rows={rows} className="items-center" />
      <div className="mt-3 flex flex-wrap gap-2">
        {can('light') && <Button onClick={() => ask({ identifySeconds: 60 })}>Light its identify light</Button>}
        <ButtonLink to={`?act=restart&on=${device}`}>Restart the controller…</ButtonLink>
      </div>
      <p className="mt-2 text-[12px] text-ink3">More can be changed with plumb controller.</p>
    </>
  )
}

function Choice({
  label,
  value,
  options,
  onPick,
}: {
  label: string
  value: string
  options: string[]
  onPick: (v: string) => void
}) {
  return (
    <select
      aria-label={label}
      value={value}
      onChange={(e) => onPick(e.target.value)}
      className="min-h-7 rounded-md border border-rule2 bg-panel px-2 max-sm:min-h-11 max-sm:text-[16px]"
    >
      {[...new Set([value, ...options])].map((o) => (
        <option key={o}>{o}</option>
      ))}
    </select>
  )
}

/** Shows what a change does, and makes it when that is agreed to. */
function Confirm({ device, change, close }: { device: string; change: ControllerChange; close: () => void }) {
  const { shown, make } = useChangeController(device, change)
  const done = make.isSuccess
  return (
    <div role="status" className="mt-3 rounded-md border border-rule2 p-3">
      {shown.isPending && <p className="text-ink3">Looking at what that changes…</p>}
      {(shown.isError || make.isError) && <p className="text-hung">{(make.error ?? shown.error)?.message}</p>}
      {shown.data?.changes.length === 0 && <p>It is like that already.</p>}
      {shown.data?.changes.map((c) => (
        <p key={c} className="font-medium">
          {c}
        </p>
      ))}
      {shown.data?.warnings.map((w) => (
        <p key={w} className="mt-1 text-strained">
          {w}
        </p>
      ))}
      {done && <p className="mt-1 text-steady">Done, and read back.</p>}
      <div className="mt-2 flex flex-wrap gap-2">
        {shown.data && shown.data.changes.length > 0 && !done && (
          <Button tone="strong" disabled={make.isPending} onClick={() => make.mutate()}>
            {make.isPending ? 'Writing…' : 'Make this change'}
          </Button>
        )}
        <Button tone="bare" onClick={close}>
          {done ? 'Close' : 'Leave it as it is'}
        </Button>
      </div>
    </div>
  )
}
