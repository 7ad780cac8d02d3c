import * as Dialog from '@radix-ui/react-dialog'
import { Search } from 'lucide-react'
import { useEffect, useId, useState } from 'react'
import { useNavigate } from 'react-router'
import type { Act, DeviceSummary } from '../api/client'
import { useBoard } from '../api/hooks'
import { Mark, words } from '../marks/Mark'
import { actionName, actionsFor, switchedOutlets } from './say'

type Target = { id: string; device: DeviceSummary; act?: Act }

/** Jumps to a device, or to an action on it: "router", "cycle router". */
export function Jump() {
  const [open, setOpen] = useState(false)
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      const typing = e.target instanceof HTMLElement && /^(INPUT|TEXTAREA|SELECT)$/.test(e.target.tagName)
      if ((e.key === '/' && !typing) || (e.key === 'k' && (e.ctrlKey || e.metaKey))) {
        e.preventDefault()
        setOpen(true)
      }
    }
    addEventListener('keydown', key)
    return () => removeEventListener('keydown', key)
  }, [])
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="flex h-8 items-center gap-2 rounded-md border border-rule2 bg-panel px-2.5 text-ink3 max-md:border-transparent max-md:bg-transparent md:w-60 md:justify-between">
        <span className="whitespace-nowrap max-md:sr-only">Go to a device, or act</span>
        <Search size={17} aria-hidden className="md:hidden" />
        <kbd className="rounded border border-rule2 px-1.5 text-[11px] max-md:hidden">/</kbd>
      </Dialog.Trigger>
      <Dialog.Portal>
        <div className="fixed inset-0 z-20 bg-shade" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed inset-x-3 top-16 z-30 mx-auto max-w-xl overflow-hidden rounded-lg border border-rule2 bg-panel"
        >
          <Dialog.Title className="sr-only">Go to a device, or act</Dialog.Title>
          <Finder onGone={() => setOpen(false)} />
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  )
}

/** What matches: every word must stand somewhere in the name of the target. */
export function findTargets(devices: DeviceSummary[], text: string): Target[] {
  const wanted = text.toLowerCase().split(/\s+/).filter(Boolean)
  const out: Target[] = []
  for (const d of devices) {
    const about = `${d.key} ${d.words} ${d.site} ${words(d.verdict.state)}`.toLowerCase()
    if (wanted.every((w) => about.includes(w))) out.push({ id: d.key, device: d })
    for (const act of actionsFor(d)) {
      const name = `${actionName(act.kind, act.means, switchedOutlets(d))} ${about}`.toLowerCase()
      if (
        wanted.length > 0 &&
        wanted.every((w) => name.includes(w)) &&
        wanted.some((w) => act.kind.startsWith(w) || 'switch'.startsWith(w))
      )
        out.push({ id: `${d.key} ${act.kind}`, device: d, act })
    }
  }
  return out.slice(0, 12)
}

function Finder({ onGone }: { onGone: () => void }) {
  const board = useBoard()
  const navigate = useNavigate()
  const [text, setText] = useState('')
  const [at, setAt] = useState(0)
  const list = useId()
  const found = findTargets(board.data?.devices ?? [], text)
  const go = (t: Target | undefined) => {
    if (!t) return
    onGone()
    navigate(t.act ? `/devices/${t.device.key}?act=${t.act.kind}&on=${t.device.key}` : `/devices/${t.device.key}`)
  }
  return (
    <>
      <input
        // biome-ignore lint/a11y/noAutofocus: the dialog was opened to type here
        autoFocus
        role="combobox"
        aria-expanded
        aria-controls={list}
        aria-activedescendant={found[at] ? `${list}-${at}` : undefined}
        aria-label="A device, or an action and a device"
        placeholder="A device, or an action: cycle router"
        value={text}
        onChange={(e) => {
          setText(e.target.value)
          setAt(0)
        }}
        onKeyDown={(e) => {
          if (e.key === 'ArrowDown') setAt((i) => Math.min(i + 1, found.length - 1))
          else if (e.key === 'ArrowUp') setAt((i) => Math.max(i - 1, 0))
          else if (e.key === 'Enter') go(found[at])
          else return
          e.preventDefault()
        }}
        className="h-12 w-full border-b border-rule bg-transparent px-4 text-[16px] outline-none"
      />
      <div id={list} role="listbox" aria-label="What was found" className="max-h-[60dvh] overflow-y-auto p-1">
        {found.map((t, i) => (
          // biome-ignore lint/a11y/useKeyWithClickEvents: the keys are those of the field above
          // biome-ignore lint/a11y/useFocusableInteractive: focus stays in the field above
          <div
            key={t.id}
            id={`${list}-${i}`}
            role="option"
            aria-selected={i === at}
            onClick={() => go(t)}
            onMouseMove={() => setAt(i)}
            className={`flex cursor-pointer items-center gap-2.5 rounded px-3 py-2 ${i === at ? 'bg-sunk' : ''}`}
          >
            <Mark state={t.device.verdict.state} size={18} />
            <span className="font-semibold">
              {t.act ? `${actionName(t.act.kind, t.act.means, switchedOutlets(t.device))}…` : t.device.key}
            </span>
            <span className="text-ink3">{t.act ? t.device.key : t.device.words}</span>
          </div>
        ))}
        {found.length === 0 && <p className="px-3 py-2 text-ink3">No device is called that.</p>}
      </div>
    </>
  )
}
