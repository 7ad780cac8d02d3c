import { Check, CircleDashed, LoaderCircle, Minus, X } from 'lucide-react'
import { type ComponentType, type ReactNode, useEffect, useRef, useState } from 'react'
import type { Operation, Step } from '../api/client'
import { useBoard, useCancelOperation, useOperation } from '../api/hooks'
import { Mark } from '../marks/Mark'
import { actionName, capital } from './say'
import { At, age, useNow, watts, zoneOf } from './time'
import { Button, Loading, Wrong } from './ui'

type Props = { id: string; title: ComponentType<{ className?: string; children: ReactNode }>; onClose: () => void }

/** An operation while it runs, and how it ended. */
export function OperationProgress({ id, title: Title, onClose }: Props) {
  const operation = useOperation(id)
  const board = useBoard()
  if (operation.isPending)
    return (
      <>
        <Title className="sr-only">Operation {id}</Title>
        <Loading what="the operation" />
      </>
    )
  if (operation.isError)
    return (
      <>
        <Title className="sr-only">Operation {id}</Title>
        <Wrong error={operation.error} retry={() => void operation.refetch()} />
      </>
    )
  const o = operation.data
  const zone = zoneOf(board.data, o)
  return (
    <>
      <Title className="pr-8 text-[18px] font-semibold">
        {actionName(o.kind, o.means, o.outlets)}
        {o.means === 'outlet' && ` of ${[...new Set(o.outlets.map((x) => x.split('/')[0]))].join(' and ')}`}
      </Title>
      <p className="mt-0.5 text-ink2">
        {o.device}, asked for by {o.by} at <At at={o.asked} zone={zone} />
      </p>
      {o.why && <p className="text-ink2">Because {o.why}</p>}
      <ol className="mt-4 flex flex-col gap-2.5" aria-live="polite">
        {o.steps.map((s, i) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: steps keep their place
          <StepRow key={i} step={s} zone={zone} />
        ))}
      </ol>
      {o.trouble.map((t) => (
        <p key={t} role="alert" className="mt-3 rounded-md border border-hung p-3">
          {capital(t)}.
        </p>
      ))}
      <LiveDraw operation={o} />
      {o.state === 'running' ? <Running operation={o} /> : <Ended operation={o} onClose={onClose} />}
    </>
  )
}

function StepRow({ step: s, zone }: { step: Step; zone: string }) {
  const now = useNow()
  const [icon, tone] = stepIcon(s)
  const left = s.state === 'waiting' && s.kind === 'wait' && s.deadline ? Date.parse(s.deadline) - now : undefined
  const waited = s.state === 'waiting' && s.kind === 'answer' && s.began ? now - Date.parse(s.began) : undefined
  return (
    <li className={`flex gap-2.5 ${s.state === 'pending' ? 'text-ink3' : ''}`}>
      <span className={`mt-0.5 ${tone}`}>
        {icon}
        <span className="sr-only">{s.state}: </span>
      </span>
      <div className="min-w-0 flex-1">
        <div className="flex justify-between gap-3">
          <span>{s.text}</span>
          {s.ended && s.state !== 'skipped' && (
            <span className="text-ink3">
              <At at={s.ended} zone={zone} />
            </span>
          )}
          {left !== undefined && left > 0 && <span className="shrink-0 text-waking">{Math.ceil(left / 1000)} s</span>}
          {waited !== undefined && <span className="shrink-0 text-waking">{age(waited)}</span>}
        </div>
        {(s.note || s.after?.w !== undefined) && (
          <div className="text-[12px] text-ink2">
            {[s.ended && s.after?.w !== undefined && watts(s.after.w), s.note].filter(Boolean).join(', ')}
          </div>
        )}
      </div>
    </li>
  )
}

function stepIcon(s: Step): [ReactNode, string] {
  switch (s.state) {
    case 'done':
      return [<Check key="i" size={17} aria-hidden />, 'text-steady']
    case 'failed':
      return [<X key="i" size={17} aria-hidden />, 'text-hung']
    case 'skipped':
      return [<Minus key="i" size={17} aria-hidden />, 'text-ink3']
    case 'pending':
      return [<CircleDashed key="i" size={17} aria-hidden />, 'text-ink3']
    case 'looking':
    case 'sending':
    case 'checking':
    case 'retrying':
    case 'waiting':
      return [<LoaderCircle key="i" size={17} aria-hidden className="motion-safe:animate-spin" />, 'text-waking']
    default:
      return s.state satisfies never
  }
}

/** The draw while the operation runs, and whether the device answers. */
function LiveDraw({ operation: o }: { operation: Operation }) {
  const board = useBoard()
  const d = board.data?.devices.find((x) => x.key === o.device)
  const samples = useRef<{ at: number; w: number }[]>([])
  const [, redraw] = useState(0)
  const w = d?.w
  const running = o.state === 'running'
  useEffect(() => {
    if (!running) return
    const t = setInterval(() => {
      if (w !== undefined) samples.current.push({ at: Date.now(), w })
      redraw((n) => n + 1)
    }, 500)
    return () => clearInterval(t)
  }, [w, running])
  if (!d) return null
  return (
    <div className="mt-4 rounded-md border border-rule p-3">
      <div className="flex items-center justify-between">
        <span className="text-[12px] text-ink3">Draw now</span>
        <span className="flex items-center gap-1.5">
          <Mark state={d.verdict.state} size={18} />
          {answering(d.lastAnswer, d.verdict.state)}
        </span>
      </div>
      <div className="mt-1 flex items-end justify-between gap-4">
        <span className="text-[21px] font-semibold">{w === undefined ? 'not known' : watts(w)}</span>
        {samples.current.length > 1 && <Trace samples={samples.current} />}
      </div>
    </div>
  )
}

function answering(last: string | undefined, state: string) {
  if (state === 'steady' || state === 'strained') return 'answers'
  if (!last) return 'has not answered yet'
  const ms = Date.now() - Date.parse(last)
  return ms < 2500 ? 'answers' : `silent for ${age(ms)}`
}

function Trace({ samples }: { samples: { at: number; w: number }[] }) {
  const first = samples[0]?.at ?? 0
  const span = Math.max(15_000, (samples.at(-1)?.at ?? 0) - first)
  const top = Math.max(1, ...samples.map((s) => s.w))
  const points = samples.map(
    (s) => `${(((s.at - first) / span) * 220).toFixed(1)},${(47 - (s.w / top) * 44).toFixed(1)}`,
  )
  return (
    <svg
      viewBox="0 0 220 50"
      className="h-12 w-[220px] max-w-full text-ink"
      role="img"
      aria-label={`Draw since the start, ${watts(top)} at the most`}
    >
      <line x1="0" y1="47" x2="220" y2="47" className="stroke-rule2" />
      <polyline points={points.join(' ')} fill="none" stroke="currentColor" strokeWidth="1.5" />
    </svg>
  )
}

function Running({ operation: o }: { operation: Operation }) {
  const cancel = useCancelOperation()
  return (
    <div className="mt-4">
      {o.usually && <p className="text-ink2">It usually answers again after {o.usually}.</p>}
      <p className="text-[12px] text-ink3">It goes on when this panel is closed, and when you lose the connection.</p>
      {cancel.isError && (
        <p role="alert" className="mt-2 text-hung">
          {cancel.error.message}
        </p>
      )}
      <Button
        className="mt-3 max-sm:w-full"
        disabled={cancel.isPending || cancel.isSuccess}
        onClick={() => cancel.mutate(o.id)}
      >
        {cancel.isSuccess ? 'Stopping at the next safe point' : 'Stop at the next safe point'}
      </Button>
    </div>
  )
}

const ends = { running: 'waking', done: 'steady', failed: 'hung', cancelled: 'parked' } as const

function Ended({ operation: o, onClose }: { operation: Operation; onClose: () => void }) {
  return (
    <div className="mt-4" role="status">
      <p className="flex gap-2.5">
        <Mark state={ends[o.state]} size={20} />
        <span className={o.state === 'failed' ? 'text-hung' : ''}>{o.outcome}.</span>
      </p>
      {o.beforeW !== undefined && o.afterW !== undefined && (
        <dl className="mt-3 grid grid-cols-2 gap-3">
          <Figure name="Before" value={watts(o.beforeW)} />
          <Figure name="After" value={watts(o.afterW)} />
        </dl>
      )}
      <ProofTable operation={o} />
      <Button className="mt-4 max-sm:w-full" onClick={onClose}>
        Close this panel
      </Button>
    </div>
  )
}

/** What was measured and seen of the device before and after: what is different first. */
function ProofTable({ operation: o }: { operation: Operation }) {
  const list = o.proof ?? []
  if (list.length === 0) return null
  const same = (p: { before?: string; after?: string }) => p.before === p.after
  const rows = [...list.filter((p) => !same(p)), ...list.filter(same)]
  return (
    <details className="mt-3">
      <summary className="cursor-pointer text-ink2">Measured and seen before and after</summary>
      <table className="mt-1.5 w-full text-[12px]">
        <thead>
          <tr className="text-left text-ink3 [&>th]:pr-2 [&>th]:font-normal">
            <th>What</th>
            <th>Before</th>
            <th>After</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((p) => (
            <tr
              key={p.name}
              className="border-t border-rule align-top [&>td]:py-0.5 [&>td]:pr-2 [&>td]:whitespace-pre-line"
            >
              <td>{p.name}</td>
              <td>
                {p.before ?? '–'}
                <More operation={o.id} file={p.beforeFile} />
              </td>
              <td className={same(p) ? '' : 'font-semibold'}>
                {p.after ?? '–'}
                <More operation={o.id} file={p.afterFile} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </details>
  )
}

function Figure({ name, value }: { name: string; value: string }) {
  return (
    <div className="rounded-md border border-rule px-3 py-2">
      <dt className="text-[12px] text-ink3">{name}</dt>
      <dd className="text-[16px] font-semibold">{value}</dd>
    </div>
  )
}

/** What is kept beside the record: all of a line, or a picture. */
function More({ operation, file }: { operation: string; file?: { id: string; type: string; size: number } }) {
  if (!file) return null
  if (file.type === 'image/png') {
    const at = `/api/v1/operations/${operation}/files/${file.id}`
    return (
      <a className="mt-1 block" href={at} target="_blank" rel="noreferrer">
        <img src={at} alt="What its screen showed" className="w-full rounded border border-rule" />
      </a>
    )
  }
  return (
    <a
      className="block font-normal text-ink2 underline"
      href={`/api/v1/operations/${operation}/files/${file.id}`}
      download={`${operation}-${file.id}.txt`}
    >
      More of it ({Math.max(1, Math.round(file.size / 1000))} kB)
    </a>
  )
}
