import * as Dialog from '@radix-ui/react-dialog'
import { X } from 'lucide-react'
import { useState } from 'react'
import { useSearchParams } from 'react-router'
import { type Intent, type Means, type OperationKind, type Preview, ProblemError } from '../api/client'
import { useBoard, useOnce, usePreview, useRequestOperation } from '../api/hooks'
import { Mark } from '../marks/Mark'
import { CutLines } from './CutLines'
import { Foot, Locks, useConsent } from './consent'
import { GroupAsk, GroupProgress } from './GroupPanel'
import { OperationProgress } from './OperationProgress'
import { actionName } from './say'
import { At, watts, zoneOf } from './time'
import { Button, Loading } from './ui'

const kinds: OperationKind[] = ['on', 'off', 'cycle', 'shutdown', 'reset', 'nmi', 'sleep', 'press', 'restart']
const allMeans: Means[] = ['command', 'chassis', 'wake', 'panel', 'poe', 'output', 'outlet']

/**
 * The panel for power actions. It lives in the address (?act=cycle&on=DEVICE,
 * then ?op=ID), so it can be sent to somebody, and survives a reload.
 */
export function ActionPanel() {
  const [params, setParams] = useSearchParams()
  const kind = kinds.find((k) => k === params.get('act'))
  const device = params.get('on')
  const op = params.get('op')
  const group = params.get('group')
  const many = kinds.find((k) => k === params.get('many'))
  const open = op !== null || group !== null || many !== undefined || (kind !== undefined && device !== null)
  const change = (values: Record<string, string>) =>
    setParams((old) => {
      for (const k of ['act', 'on', 'outlet', 'means', 'op', 'many', 'site', 'pdu', 'group']) old.delete(k)
      for (const [k, v] of Object.entries(values)) old.set(k, v)
      return old
    })
  return (
    <Dialog.Root open={open} onOpenChange={(o) => !o && change({})}>
      <Dialog.Portal>
        <div className="fixed inset-0 z-20 bg-shade" />
        <Dialog.Content
          aria-describedby={undefined}
          onOpenAutoFocus={(e) => {
            e.preventDefault()
            if (e.currentTarget instanceof HTMLElement) e.currentTarget.focus()
          }}
          className="fixed z-30 flex max-h-[92dvh] flex-col overflow-y-auto overscroll-contain bg-panel p-5 outline-none max-sm:inset-x-0 max-sm:bottom-0 max-sm:rounded-t-2xl max-sm:pb-[max(1.25rem,env(safe-area-inset-bottom))] sm:inset-y-0 sm:right-0 sm:max-h-none sm:w-[27rem] sm:border-l sm:border-rule2"
        >
          <Dialog.Close
            aria-label="Close this panel"
            className="absolute top-4 right-4 rounded p-1 text-ink3 hover:text-ink"
          >
            <X size={18} aria-hidden />
          </Dialog.Close>
          {op ? (
            <OperationProgress id={op} title={Dialog.Title} onClose={() => change({})} />
          ) : group ? (
            <GroupProgress id={group} title={Dialog.Title} onClose={() => change({})} />
          ) : many ? (
            <GroupAsk
              kind={many}
              who={{
                devices: params.has('on') ? params.getAll('on') : undefined,
                site: params.get('site') ?? undefined,
                pdu: params.get('pdu') ?? undefined,
              }}
              title={Dialog.Title}
              onStarted={(id) => change({ group: id })}
              onLeave={() => change({})}
            />
          ) : (
            kind &&
            device && (
              <Ask
                key={`${kind} ${device} ${params.get('means')}`}
                kind={kind}
                means={allMeans.find((m) => m === params.get('means'))}
                onMeans={(means) => change({ act: kind, on: device, means })}
                device={device}
                outlets={params.getAll('outlet')}
                onStarted={(id) => change({ op: id })}
                onLeave={() => change({})}
              />
            )
          )}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  )
}

type AskProps = {
  kind: OperationKind
  means: Means | undefined
  onMeans: (m: Means) => void
  device: string
  outlets: string[]
  onStarted: (id: string) => void
  onLeave: () => void
}

/** Says what an action would take down, and then asks for it. */
function Ask({ kind, means, onMeans, device, outlets, onStarted, onLeave }: AskProps) {
  const [force, setForce] = useState(false)
  const [hold, setHold] = useState<number>()
  const [into, setInto] = useState('')
  const intent: Intent = {
    kind,
    device,
    means: into ? undefined : means, // where a start leads is for the controller to be told
    force,
    into: into || undefined,
    holdSeconds: hold,
    outlets: outlets.length > 0 ? outlets : undefined,
  }
  const preview = usePreview(intent)
  if (preview.isPending)
    return (
      <>
        <Dialog.Title className="sr-only">Working out what it would take down</Dialog.Title>
        <Loading what="what it would take down" />
      </>
    )
  if (preview.isError)
    return (
      <>
        <Dialog.Title className="text-[18px] font-semibold">That cannot be done</Dialog.Title>
        <p role="alert" className="my-4">
          {preview.error.message}
        </p>
        <Button onClick={onLeave}>Leave it as it is</Button>
      </>
    )
  return (
    <Consent
      preview={preview.data}
      intent={intent}
      onMeans={onMeans}
      setForce={setForce}
      setHold={setHold}
      setInto={setInto}
      again={() => void preview.refetch()}
      onStarted={onStarted}
      onLeave={onLeave}
    />
  )
}

type ConsentProps = Pick<AskProps, 'onMeans' | 'onStarted' | 'onLeave'> & {
  preview: Preview
  intent: Intent
  again: () => void
  setForce: (f: boolean) => void
  setHold: (seconds: number) => void
  setInto: (into: string) => void
}

function Consent({ preview: p, intent, onMeans, setForce, setHold, setInto, again, onStarted, onLeave }: ConsentProps) {
  const request = useRequestOperation()
  const consent = useConsent(p.interlocks)
  const once = useOnce(p.digest)

  const go = () =>
    request.mutate(
      { once, body: { intent, digest: p.digest, ...consent.given } },
      {
        onSuccess: (o) => onStarted(o.id),
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
      <Dialog.Title className="pr-8 text-[18px] font-semibold">{p.title}</Dialog.Title>
      <Whereabouts preview={p} />
      <Lines preview={p} />
      <CutLines preview={p} />
      <Now preview={p} />
      {(p.kind === 'shutdown' || p.kind === 'restart') && (
        <label className="mt-3 flex gap-2">
          <input type="checkbox" checked={intent.force ?? false} onChange={(e) => setForce(e.target.checked)} />
          <span>{p.kind === 'shutdown' ? 'Switch it off if it does not heed' : 'From the very beginning (cold)'}</span>
        </label>
      )}
      {p.kind === 'press' && <PressTime seconds={p.holdSeconds} onChange={setHold} />}
      {(p.kind === 'reset' || p.kind === 'cycle') && p.ways.some((w) => w.means === 'chassis') && (
        <Leads into={intent.into ?? ''} onChange={setInto} />
      )}
      <OtherMeans preview={p} onMeans={onMeans} />
      <Locks interlocks={p.interlocks} consent={consent} />
      <Foot {...{ consent, request, onLeave }}>
        {actionName(
          p.kind,
          p.means,
          p.outlets.map((o) => o.outlet),
        )}
      </Foot>
    </form>
  )
}

function Whereabouts({ preview: p }: { preview: Preview }) {
  const board = useBoard()
  const d = board.data?.devices.find((x) => x.key === p.device)
  return <p className="mt-0.5 mb-3 text-ink2">{[p.device, d?.place].filter(Boolean).join(', ')}</p>
}

const leads = [
  { into: '', name: 'as usual' },
  { into: 'setup', name: 'into set-up' },
  { into: 'disk', name: 'from its disk' },
  { into: 'network', name: 'from the network' },
  { into: 'disc', name: 'from a disc' },
  { into: 'diagnostics', name: 'into its diagnostics' },
]

/** Where a start leads, this once. */
function Leads({ into, onChange }: { into: string; onChange: (into: string) => void }) {
  return (
    <label className="mt-3 flex flex-wrap items-center gap-2">
      <span>It starts</span>
      <select
        className="min-h-8 rounded-md border border-rule2 bg-panel px-2 max-sm:min-h-11"
        value={into}
        onChange={(e) => onChange(e.target.value)}
      >
        {leads.map((x) => (
          <option key={x.into} value={x.into}>
            {x.name}
          </option>
        ))}
      </select>
    </label>
  )
}

const presses = [
  { seconds: 0.4, name: 'Short', what: '0.4 s' },
  { seconds: 6, name: 'Long', what: '6 s: forces it off' },
]

/** How long a button is pressed. */
function PressTime({ seconds, onChange }: { seconds: number; onChange: (s: number) => void }) {
  return (
    <fieldset className="mt-3 flex gap-4">
      <legend className="sr-only">How long</legend>
      {presses.map((x) => (
        <label key={x.name} className="flex items-center gap-2 max-sm:min-h-11">
          <input
            type="radio"
            name="press"
            checked={Math.abs(seconds - x.seconds) < 0.01}
            onChange={() => onChange(x.seconds)}
          />
          <span>
            {x.name} <span className="text-ink3">({x.what})</span>
          </span>
        </label>
      ))}
    </fieldset>
  )
}

const meansNames: Record<Means, string> = {
  command: 'its command line',
  chassis: 'its chassis',
  wake: 'a magic packet',
  panel: 'its front panel',
  poe: 'its PoE port',
  output: 'its output',
  outlet: 'its outlets',
  endpoint: '',
}

/** The other ways in which the same could be done. */
function OtherMeans({ preview: p, onMeans }: { preview: Preview; onMeans: (m: Means) => void }) {
  const others = p.ways.filter((w) => w.means !== p.means)
  if (others.length === 0) return null
  return (
    <p className="mt-3 flex flex-wrap gap-x-4 gap-y-1">
      {others.map((w) => (
        <button
          key={w.means}
          type="button"
          className={`underline max-sm:min-h-11 ${w.can ? '' : 'text-ink3'}`}
          title={w.why}
          onClick={() => onMeans(w.means)}
        >
          Use {meansNames[w.means]} instead
        </button>
      ))}
    </p>
  )
}

const lineMarks = {
  'loses-power': 'dark',
  'loses-feed': 'strained',
  'cut-off': 'cut-off',
  'our-path': 'strained',
  returns: 'waking',
  unknown: 'unknown',
  'in-use': 'strained',
  load: 'steady',
  note: 'steady',
} as const

function Lines({ preview: p }: { preview: Preview }) {
  return (
    <ul className="flex flex-col gap-2">
      {p.lines.map((l) => (
        <li key={l.text} className="flex gap-2.5">
          <Mark state={lineMarks[l.kind]} size={18} />
          <span>{l.text}.</span>
        </li>
      ))}
    </ul>
  )
}

function Now({ preview: p }: { preview: Preview }) {
  const board = useBoard()
  const d = board.data?.devices.find((x) => x.key === p.device)
  const zone = zoneOf(board.data, { site: d?.site })
  return (
    <p className="mt-3 text-[12px] text-ink3">
      {p.outlets.map((o) => (
        <span key={o.outlet} className="mr-3">
          Now: {o.place} {o.known ? (o.on ? 'on' : 'off') : 'not read yet'}
          {o.w !== undefined && `, ${watts(o.w)}`}
          {o.known && !o.fresh && ' (stale)'}
        </span>
      ))}
      {d?.lastAnswer && (
        <span>
          last answer <At at={d.lastAnswer} zone={zone} />
        </span>
      )}
    </p>
  )
}
