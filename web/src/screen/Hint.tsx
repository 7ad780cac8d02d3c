import { type RefObject, useEffect, useState } from 'react'
import { useBoard } from '../api/hooks'
import type { View, ViewState } from './view'

const hints: Record<string, string> = {
  unreachable:
    'Nothing answers at what shows it. Is that without power, or the way to it broken? The device page says; an outlet of it can be cycled from there.',
  'bad-secret': 'What shows it does not let Plumb Bob in: a keeper sets its secret again, with plumb secret set.',
  busy: 'What shows it lets no more in: somebody may look at it past Plumb Bob.',
  unsupported: 'What shows it speaks in a way that is not known here: its settings may offer another.',
  malformed:
    'What shows it answers nonsense: it may be starting, or hang. A cycle of its own power helps where nothing else does.',
}

const bareOff =
  'Next to nothing is on it, and its device is without power or off: switch it on, and look whether firmware comes.'
const bareOn =
  'Next to nothing is on it. It may sleep: press Shift, or move the pointer. Else its system may draw on another graphics adapter, or send this one no signal: a reset shows its firmware where that is so, and the lead to the KVM is the last to try.'
const off = ['dark', 'parked']

const deafAfter = 10_000

/** What to try when there is no picture, or when keys change nothing. */
export function Hint({ device, state, view }: { device: string; state: ViewState; view: RefObject<View | undefined> }) {
  const verdict = useBoard().data?.devices.find((d) => d.key === device)?.verdict.state
  const [deaf, setDeaf] = useState(false)
  useEffect(() => {
    const timer = setInterval(() => setDeaf((view.current?.deafFor(Date.now()) ?? 0) > deafAfter), 1000)
    return () => clearInterval(timer)
  }, [view])
  const hint = state.trouble && !state.up ? hints[state.trouble] : undefined
  const text =
    hint ??
    (state.bare && state.up ? (off.includes(verdict ?? '') ? bareOff : bareOn) : undefined) ??
    (deaf && state.up
      ? `Keys have changed nothing for 10 s: the system may not have taken the keyboard, or hangs. Try Ctrl-Alt-Del or Caps Lock, draw the picture again, or see its power beside it.${state.replugs ? ' Under View, its keyboard can be plugged in anew.' : ''}`
      : undefined)
  return text ? <p className="border-l-2 border-brass pl-2 text-[12.5px] text-ink2">{text}</p> : null
}
