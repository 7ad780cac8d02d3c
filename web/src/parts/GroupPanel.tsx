import { type ComponentType, type ReactNode, useState } from 'react'
import { Link } from 'react-router'
import {
  type Group,
  type GroupIntent,
  type GroupMember,
  type GroupPreview,
  type Means,
  type OperationKind,
  type Preview,
  ProblemError,
} from '../api/client'
import { useBoard, useCancelGroup, useGroup, useGroupPreview, useOnce, useRequestGroup } from '../api/hooks'
import { Mark } from '../marks/Mark'
import { Foot, Locks, useConsent } from './consent'
import { outletNumbers, verbs } from './say'
import { At, exact, instant, watts, zoneOf } from './time'
import { Button, Loading, Wrong } from './ui'

type Title = ComponentType<{ className?: string; children: ReactNode }>

type AskProps = {
  kind: OperationKind
  who: GroupIntent['who']
  title: Title
  onStarted: (id: string) => void
  onLeave: () => void
}

/** What would be done to several devices, in which order and when, and then asks for it. */
export function GroupAsk({ kind, who, title: Title, onStarted, onLeave }: AskProps) {
  const [atOnce, setAtOnce] = useState(4)
  const [goOn, setGoOn] = useState(false)
  const [at, setAt] = useState('')
  const zone = useZone(who)
  const intent: GroupIntent = { kind, who, order: { atOnce, goOn }, at: at ? instant(at, zone) : undefined }
  const preview = useGroupPreview(intent)
  if (preview.isPending)
    return (
      <>
        <Title className="sr-only">Working out the timetable</Title>
        <Loading what="the timetable" />
      </>
    )
  if (preview.isError)
    return (
      <>
        <Title className="text-[18px] font-semibold">That cannot be done</Title>
        <p role="alert" className="my-4">
          {preview.error.message}
        </p>
        <Button onClick={onLeave}>Leave it as it is</Button>
      </>
    )
  return (
    <Planned
      preview={preview.data}
      intent={intent}
      again={() => void preview.refetch()}
      {...{ Title, onStarted, onLeave }}
    >
      <div className="mt-4 flex flex-wrap items-center gap-x-5 gap-y-2">
        <label className="flex items-center gap-2">
          At once
          <select
            className="h-8 rounded-md border border-rule2 bg-panel px-2 max-sm:h-11"
            value={atOnce}
            onChange={(e) => setAtOnce(Number(e.target.value))}
          >
            {[1, 2, 4, 8, 16].map((n) => (
              <option key={n}>{n}</option>
            ))}
          </select>
        </label>
        <label className="flex items-center gap-2">
          <input type="checkbox" checked={goOn} onChange={(e) => setGoOn(e.target.checked)} />
          Go on after a failure
        </label>
        <label className="flex flex-wrap items-center gap-2">
          At
          <input
            type="datetime-local"
            aria-label={`When it begins, in the zone ${zone}`}
            className="h-8 rounded-md border border-rule2 bg-panel px-2 max-sm:h-11"
            value={at}
            onChange={(e) => setAt(e.target.value)}
          />
          <span className="text-ink2">{zone}</span>
        </label>
      </div>
    </Planned>
  )
}

/** The zone of the site at which devices are: times typed and shown for them are in it. */
function useZone(who: GroupIntent['who']) {
  return zoneOf(useBoard().data, { site: who.site, device: who.devices?.[0] ?? who.pdu ?? who.ups })
}

type PlannedProps = Omit<AskProps, 'kind' | 'who' | 'title'> & {
  preview: GroupPreview
  intent: GroupIntent
  again: () => void
  Title: Title
  children: ReactNode
}

function Planned({ preview: p, intent, again, Title, onStarted, onLeave, children }: PlannedProps) {
  const request = useRequestGroup()
  const consent = useConsent(p.interlocks)
  const once = useOnce(p.digest)
  const go = () =>
    request.mutate(
      { once, body: { intent, digest: p.digest, ...consent.given } },
      {
        onSuccess: (g) => onStarted(g.id),
        onError: (e) => e instanceof ProblemError && e.kind === 'preview-changed' && again(),
      },
    )
  return (
    <form
      className="flex flex-1 flex-col"
      onSubmit={(e) => {
        e.preventDefault()
        if (consent.may && !request.isPending) go()
      }}
    >
      <Title className="pr-8 text-[18px] font-semibold">{p.title}</Title>
      <Timetable preview={p} />
      <Curve points={p.curve} />
      <Warnings preview={p} />
      {p.leftOut.length > 0 && (
        <details className="mt-3 text-ink2">
          <summary className="cursor-pointer">
            {p.leftOut.length} {p.leftOut.length === 1 ? 'is' : 'are'} left as{' '}
            {p.leftOut.length === 1 ? 'it is' : 'they are'}
          </summary>
          <ul className="mt-1">
            {p.leftOut.map((l) => (
              <li key={l.name}>
                <b>{l.name}</b> {l.text}
              </li>
            ))}
          </ul>
        </details>
      )}
      {children}
      <Locks interlocks={p.interlocks} consent={consent} />
      <Foot {...{ consent, request, onLeave }}>
        {`${verbs[intent.kind]} ${p.slots.length === 1 ? '1 device' : `${p.slots.length} devices`}${p.at ? ', then' : ''}`}
      </Foot>
    </form>
  )
}

/** "+1:25", counted from the beginning. */
export function offset(seconds: number): string {
  const s = Math.round(seconds)
  return `+${Math.floor(s / 60)}:${String(s % 60).padStart(2, '0')}`
}

const parts: Partial<Record<Means, string>> = {
  command: 'command line',
  chassis: 'chassis',
  panel: 'front panel',
  wake: 'magic packet',
}

/** Through what it is switched, in a word or two. */
const through = (p: Preview) => parts[p.means] ?? outletNumbers(p.outlets.map((o) => o.outlet))

/** Each device as a bar from when it begins to when it is up. */
function Timetable({ preview: p }: { preview: GroupPreview }) {
  const end = Math.max(1, ...p.slots.map((s) => s.upSeconds))
  return (
    <ol className="mt-3 max-h-72 overflow-y-auto border-y border-rule" aria-label="Timetable">
      {p.slots.map((s) => (
        <li
          key={s.device}
          className="border-t border-rule py-1 first:border-t-0"
          title={s.after.length > 0 ? `after ${s.after.join(', ')}` : undefined}
        >
          <div className="flex justify-between gap-3">
            <span className="truncate">
              <b className="font-semibold">{s.device}</b>
              <span className="text-ink3"> {through(s.preview)}</span>
            </span>
            <span className="shrink-0 text-ink2">
              {offset(s.beginsSeconds)} to {offset(s.upSeconds)}
            </span>
          </div>
          <div className="mt-0.5 h-1 bg-sunk" aria-hidden>
            <div
              className="h-1 bg-brass"
              style={{
                marginLeft: `${(s.beginsSeconds / end) * 100}%`,
                width: `${Math.max(0.8, ((s.upSeconds - s.beginsSeconds) / end) * 100)}%`,
              }}
            />
          </div>
        </li>
      ))}
    </ol>
  )
}

/** What is drawn meanwhile, as it is expected. */
export function Curve({ points }: { points: GroupPreview['curve'] }) {
  if (points.length < 2) return null
  const end = Math.max(1, (points.at(-1)?.seconds ?? 0) * 1.04)
  const top = Math.max(1, ...points.map((p) => p.w))
  const x = (s: number) => (s / end) * 390
  const y = (w: number) => 62 - (w / top) * 56
  const steps = points.flatMap((p, i) => {
    const next = points[i + 1]?.seconds ?? end
    return [`${x(p.seconds).toFixed(1)},${y(p.w).toFixed(1)}`, `${x(next).toFixed(1)},${y(p.w).toFixed(1)}`]
  })
  const last = points.at(-1)?.w ?? 0
  return (
    <figure className="mt-3">
      <svg
        viewBox="0 0 390 64"
        className="w-full"
        role="img"
        aria-label={`Expected load: from ${watts(points[0]?.w)} to ${watts(last)}, ${watts(top)} at the most`}
      >
        <line x1="0" y1="62" x2="390" y2="62" className="stroke-rule2" />
        <polyline points={steps.join(' ')} fill="none" className="stroke-ink" strokeWidth="1.5" />
      </svg>
      <figcaption className="flex justify-between text-[12px] text-ink3">
        <span>{watts(points[0]?.w)} now</span>
        <span>{watts(top)} at the most</span>
        <span>{watts(last)} then</span>
      </figcaption>
    </figure>
  )
}

const telling = ['in-use', 'our-path', 'unknown']

/** What the single previews say that one should know, each once. */
function Warnings({ preview: p }: { preview: GroupPreview }) {
  const texts = [
    ...new Set(p.slots.flatMap((s) => s.preview.lines.filter((l) => telling.includes(l.kind)).map((l) => l.text))),
  ]
  if (texts.length === 0) return null
  return (
    <ul className="mt-3 flex flex-col gap-1.5">
      {texts.map((t) => (
        <li key={t} className="flex gap-2.5">
          <Mark state="strained" size={18} />
          <span>{t}.</span>
        </li>
      ))}
    </ul>
  )
}

const memberMarks = {
  pending: 'unknown',
  beginning: 'waking',
  running: 'waking',
  settling: 'waking',
  done: 'steady',
  failed: 'hung',
  interlocked: 'hung',
  skipped: 'parked',
} as const satisfies Record<GroupMember['state'], string>

const memberWords: Record<GroupMember['state'], string> = {
  pending: 'to come',
  beginning: 'beginning',
  running: 'under way',
  settling: 'has power',
  done: 'up',
  failed: 'failed',
  interlocked: 'stopped by an interlock',
  skipped: 'not begun',
}

/** A group while it runs, and how it ended. */
export function GroupProgress({ id, title: Title, onClose }: { id: string; title: Title; onClose: () => void }) {
  const group = useGroup(id)
  const zone = useZone({ devices: group.data?.members.map((m) => m.device) })
  if (group.isPending)
    return (
      <>
        <Title className="sr-only">Group {id}</Title>
        <Loading what="the group" />
      </>
    )
  if (group.isError)
    return (
      <>
        <Title className="sr-only">Group {id}</Title>
        <Wrong error={group.error} retry={() => void group.refetch()} />
      </>
    )
  const g = group.data
  const down = g.kind === 'off' || g.kind === 'shutdown' || g.kind === 'sleep'
  return (
    <>
      <Title className="pr-8 text-[18px] font-semibold">{g.title}</Title>
      <p className="mt-0.5 text-ink2">
        Asked for by {g.by}
        {g.why && `, because ${g.why}`}. {g.done} of {g.members.length} done.
      </p>
      {g.state === 'scheduled' && g.at && <p className="mt-2 font-semibold">It begins at {exact(g.at, zone)}.</p>}
      <ol className="mt-4 flex flex-col gap-1.5" aria-live="polite">
        {g.members.map((m) => (
          <li key={m.device} className="flex gap-2.5">
            <Mark state={memberMarks[m.state]} size={19} />
            <div className="min-w-0 flex-1">
              <div className="flex justify-between gap-3">
                {m.began ? (
                  <Link className="truncate font-semibold hover:underline" to={`?op=${m.operation}`}>
                    {m.device}
                  </Link>
                ) : (
                  <span className="truncate">{m.device}</span>
                )}
                <span className="shrink-0 text-ink2">
                  {m.state === 'done' && down ? 'down' : memberWords[m.state]}
                  {m.ended && m.began && (
                    <>
                      {' '}
                      <At at={m.ended} zone={zone} />
                    </>
                  )}
                </span>
              </div>
              {m.note && m.state !== 'done' && <p className="text-[12px] text-ink2">{m.note}</p>}
            </div>
          </li>
        ))}
      </ol>
      <End group={g} onClose={onClose} />
    </>
  )
}

function End({ group: g, onClose }: { group: Group; onClose: () => void }) {
  const cancel = useCancelGroup()
  if (g.ended)
    return (
      <Button className="mt-4 max-sm:w-full" onClick={onClose}>
        Close this panel
      </Button>
    )
  return (
    <div className="mt-4">
      <p className="text-[12px] text-ink3">It goes on when this panel is closed, and when you lose the connection.</p>
      {cancel.isError && (
        <p role="alert" className="mt-2 text-hung">
          {cancel.error.message}
        </p>
      )}
      <Button
        className="mt-3 max-sm:w-full"
        disabled={cancel.isPending || cancel.isSuccess}
        onClick={() => cancel.mutate(g.id)}
      >
        {cancel.isSuccess ? 'Nothing more begins' : g.state === 'scheduled' ? 'Take it back' : 'Begin nothing more'}
      </Button>
    </div>
  )
}
