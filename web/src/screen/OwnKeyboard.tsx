import { type RefObject, useEffect, useRef, useState } from 'react'
import { Button } from '../parts/ui'
import { Layout } from './KeyRow'
import { codes, type Key, symOf, syms } from './keys'
import type { View } from './view'

// A keyboard to be touched. Keys are sent by where they are; what stands on them is by the layout
// that the device has.

/** Rows of letters by layout; other keys are the same everywhere. */
const letters: Record<string, [string, string, string, string]> = {
  us: ['`1234567890-=', 'qwertyuiop[]\\', "asdfghjkl;'", 'zxcvbnm,./'],
  uk: ['`1234567890-=', 'qwertyuiop[]#', "asdfghjkl;'", 'zxcvbnm,./'],
  de: ['^1234567890ß´', 'qwertzuiopü+#', 'asdfghjklöä', 'yxcvbnm,.-'],
  fr: ['²&é"\'(-è_çà)=', 'azertyuiop^$*', 'qsdfghjklmù', 'wxcvbn,;:!'],
  no: ['|1234567890+\\', "qwertyuiopå¨'", 'asdfghjkløæ', 'zxcvbnm,.-'],
}
const places = [
  ['Backquote', ...[...'1234567890'].map((c) => `Digit${c}`), 'Minus', 'Equal'],
  [...[...'QWERTYUIOP'].map((c) => `Key${c}`), 'BracketLeft', 'BracketRight', 'Backslash'],
  [...[...'ASDFGHJKL'].map((c) => `Key${c}`), 'Semicolon', 'Quote'],
  [...[...'ZXCVBNM'].map((c) => `Key${c}`), 'Comma', 'Period', 'Slash'],
]
const held = [
  ['ShiftLeft', 'Shift'],
  ['ControlLeft', 'Ctrl'],
  ['AltLeft', 'Alt'],
  ['AltRight', 'AltGr'],
  ['MetaLeft', 'Super'],
] as const
const named = [
  ['Escape', 'Esc'],
  ['Tab', 'Tab'],
  ['CapsLock', 'Caps'],
  ['Backspace', '⌫'],
  ['Enter', '⏎'],
  ['ArrowLeft', '←'],
  ['ArrowDown', '↓'],
  ['ArrowUp', '↑'],
  ['ArrowRight', '→'],
  ['Insert', 'Ins'],
  ['Delete', 'Del'],
  ['Home', 'Home'],
  ['End', 'End'],
  ['PageUp', 'PgUp'],
  ['PageDown', 'PgDn'],
] as const

const keyAt = (code: string, label: string): Key => ({
  code: codes[code] ?? 0,
  sym: [...label].length === 1 && !(code in syms) ? symOf(code === 'Space' ? ' ' : label) : (syms[code] ?? 0),
})

/** Keys that are held stay so until another one has been pressed, or they are touched again. */
export function OwnKeyboard({
  view,
  layout,
  setLayout,
}: {
  view: RefObject<View | undefined>
  layout: string
  setLayout: (layout: string) => void
}) {
  const [down, setDown] = useState<string[]>([])
  const holds = useRef<string[]>([])
  useEffect(() => {
    const at = view.current
    return () => at?.wish({ do: 'release' }) // what is held
  }, [view])
  const hold = (code: string) => {
    const is = holds.current.includes(code)
    view.current?.key(!is, keyAt(code, ''))
    holds.current = is ? holds.current.filter((c) => c !== code) : [...holds.current, code]
    setDown(holds.current)
  }
  const press = (code: string, label: string) => {
    const k = code === 'Space' ? { code: codes.Space ?? 0, sym: 0x20 } : keyAt(code, label)
    view.current?.key(true, k)
    view.current?.key(false, k)
    for (const c of [...holds.current].reverse()) hold(c)
  }
  const rows = letters[layout] ?? letters.us
  const key = (code: string, label: string) => (
    <button
      key={code}
      type="button"
      aria-label={code === 'Space' ? 'Space' : label}
      onPointerDown={(e) => e.preventDefault()} // the canvas keeps the keys of this keyboard
      onClick={() => press(code, label)}
      className={`min-h-9 rounded border border-rule2 bg-panel px-0.5 max-sm:min-h-10 ${code === 'Space' ? 'grow-[4]' : 'grow'} basis-0`}
    >
      {label}
    </button>
  )
  return (
    <fieldset className="mx-auto flex w-full max-w-3xl flex-col gap-1 text-[13px]" aria-label="Keyboard">
      <div className="flex gap-1">{Array.from({ length: 12 }, (_, i) => key(`F${i + 1}`, `F${i + 1}`))}</div>
      {places.map((row, i) => (
        <div key={row[0]} className="flex gap-1">
          {row.map((code, j) => key(code, [...(rows?.[i] ?? '')][j] ?? ''))}
        </div>
      ))}
      <div className="flex gap-1">
        {held.map(([code, label]) => (
          <Button
            key={code}
            aria-pressed={down.includes(code)}
            onPointerDown={(e) => e.preventDefault()}
            onClick={() => hold(code)}
            className={`grow basis-0 px-0.5! ${down.includes(code) ? 'border-brass! bg-sunk!' : ''}`}
          >
            {label}
          </Button>
        ))}
        {key('Space', 'Space')}
      </div>
      <div className="flex flex-wrap gap-1">
        {named.map(([code, label]) => key(code, label))}
        <Layout layout={layout} setLayout={setLayout} />
      </div>
    </fieldset>
  )
}
