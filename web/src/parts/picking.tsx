import { useCallback, useMemo, useState } from 'react'
import { Link } from 'react-router'
import type { DeviceSummary, OperationKind } from '../api/client'
import { useBoard, useOpenGroups } from '../api/hooks'
import { clock, useNow, zoneOf } from './time'

/** Which devices are selected on the board. */
export function usePicking(devices: DeviceSummary[]) {
  const [on, setOn] = useState(false)
  const [keys, setKeys] = useState<ReadonlySet<string>>(new Set())
  const pick = useCallback(
    (which: string[], wanted: boolean) =>
      setKeys((old) => {
        const next = new Set(old)
        for (const k of which) wanted ? next.add(k) : next.delete(k)
        return next
      }),
    [],
  )
  const toggle = () => {
    setOn((x) => !x)
    setKeys(new Set())
  }
  const picked = useMemo(() => devices.filter((d) => keys.has(d.key)), [devices, keys])
  return { on, keys, picked, all: devices, pick, toggle }
}

export type Picking = ReturnType<typeof usePicking>

/** All devices of a site at once. */
export function PickSite({ site, devices, picking }: { site: string; devices: DeviceSummary[]; picking: Picking }) {
  const all = devices.every((d) => picking.keys.has(d.key))
  return (
    <input
      type="checkbox"
      className="mr-2 align-middle"
      aria-label={`All of ${site}`}
      checked={all}
      onChange={() =>
        picking.pick(
          devices.map((d) => d.key),
          !all,
        )
      }
    />
  )
}

const offered: { kind: OperationKind; name: string }[] = [
  { kind: 'on', name: 'Switch on' },
  { kind: 'shutdown', name: 'Shut down' },
  { kind: 'reset', name: 'Reset' },
  { kind: 'cycle', name: 'Cycle' },
  { kind: 'off', name: 'Switch off' },
]

/** What can be done to how many of some devices, and to which. */
export function coverage(devices: DeviceSummary[]) {
  return offered.flatMap(({ kind, name }) => {
    const can = devices.filter((d) => d.acts.some((a) => a.kind === kind)).map((d) => d.key)
    return can.length > 0 ? [{ kind, name, can }] : []
  })
}

/** Who is meant: a site where all of it is selected, so that what has to stay is left out. */
export function meant(kind: OperationKind, can: string[], picked: DeviceSummary[], all: DeviceSummary[]): string {
  const site = picked[0]?.site
  const whole = picked.length === all.filter((d) => d.site === site).length && picked.every((d) => d.site === site)
  return whole && site ? `?many=${kind}&site=${site}` : `?many=${kind}${can.map((k) => `&on=${k}`).join('')}`
}

/** Every action with its coverage, at the foot of the page. */
export function PickedBar({ picking }: { picking: Picking }) {
  if (!picking.on) return null
  const n = picking.picked.length
  return (
    <section
      aria-label="Selected devices"
      className="sticky bottom-0 z-[6] mt-3 flex flex-wrap items-center gap-2 rounded-t-lg border border-rule2 bg-panel px-4 py-3 max-sm:px-3.5"
    >
      <b className="mr-2">{n === 0 ? 'Select devices, or a whole site' : `${n} selected`}</b>
      {coverage(picking.picked).map(({ kind, name, can }) => (
        <Link
          key={kind}
          to={meant(kind, can, picking.picked, picking.all)}
          className="inline-flex min-h-8 items-center rounded-md border border-rule2 px-3 font-medium hover:border-ink3 max-sm:min-h-11"
        >
          {name}…{can.length < n && <span className="ml-1.5 font-normal text-ink3">{`${can.length} of ${n}`}</span>}
        </Link>
      ))}
    </section>
  )
}

/** Groups that run, or wait for their time. */
export function Underway() {
  const groups = useOpenGroups()
  const board = useBoard()
  const now = useNow()
  if (!groups.data || groups.data.length === 0) return null
  return (
    <ul className="mt-3 flex flex-col gap-1.5 max-sm:px-3.5">
      {groups.data.map((g) => (
        <li key={g.id} className="flex flex-wrap gap-x-3 rounded-md border border-rule bg-panel px-4 py-2">
          <Link className="font-semibold hover:underline" to={`?group=${g.id}`}>
            {g.title}
          </Link>
          <span className="text-ink2">
            {g.state === 'scheduled' && g.at
              ? `begins at ${clock(g.at, zoneOf(board.data, { device: g.members[0]?.device }), now)}`
              : `${g.done} of ${g.members.length} done`}
            , asked for by {g.by}
          </span>
        </li>
      ))}
    </ul>
  )
}
