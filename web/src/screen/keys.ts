// Keys as gear is told of them: their meaning as a keysym of X, and their position as a scan code
// of set 1, with the prefix E0 as the high bit.

export type Key = { sym: number; code: number }

export const codes: Record<string, number> = {
  Escape: 0x01,
  Minus: 0x0c,
  Equal: 0x0d,
  Backspace: 0x0e,
  Tab: 0x0f,
  BracketLeft: 0x1a,
  BracketRight: 0x1b,
  Enter: 0x1c,
  ControlLeft: 0x1d,
  Semicolon: 0x27,
  Quote: 0x28,
  Backquote: 0x29,
  ShiftLeft: 0x2a,
  Backslash: 0x2b,
  Comma: 0x33,
  Period: 0x34,
  Slash: 0x35,
  ShiftRight: 0x36,
  NumpadMultiply: 0x37,
  AltLeft: 0x38,
  Space: 0x39,
  CapsLock: 0x3a,
  F11: 0x57,
  F12: 0x58,
  IntlBackslash: 0x56,
  NumLock: 0x45,
  ScrollLock: 0x46,
  Numpad7: 0x47,
  Numpad8: 0x48,
  Numpad9: 0x49,
  NumpadSubtract: 0x4a,
  Numpad4: 0x4b,
  Numpad5: 0x4c,
  Numpad6: 0x4d,
  NumpadAdd: 0x4e,
  Numpad1: 0x4f,
  Numpad2: 0x50,
  Numpad3: 0x51,
  Numpad0: 0x52,
  NumpadDecimal: 0x53,
  NumpadEnter: 0x9c,
  ControlRight: 0x9d,
  NumpadDivide: 0xb5,
  PrintScreen: 0xb7,
  AltRight: 0xb8,
  Pause: 0xc6,
  Home: 0xc7,
  ArrowUp: 0xc8,
  PageUp: 0xc9,
  ArrowLeft: 0xcb,
  ArrowRight: 0xcd,
  End: 0xcf,
  ArrowDown: 0xd0,
  PageDown: 0xd1,
  Insert: 0xd2,
  Delete: 0xd3,
  MetaLeft: 0xdb,
  MetaRight: 0xdc,
  ContextMenu: 0xdd,
  IntlRo: 0x73,
  IntlYen: 0x7d,
  Convert: 0x79,
  NonConvert: 0x7b,
  KanaMode: 0x70,
}

for (const [first, names] of [
  [0x02, '1234567890'],
  [0x10, 'QWERTYUIOP'],
  [0x1e, 'ASDFGHJKL'],
  [0x2c, 'ZXCVBNM'],
] as const) {
  for (const [i, c] of [...names].entries()) codes[c < 'A' ? `Digit${c}` : `Key${c}`] = first + i
}
for (let i = 1; i <= 10; i++) codes[`F${i}`] = 0x3a + i

export const syms: Record<string, number> = {
  Backspace: 0xff08,
  Tab: 0xff09,
  Enter: 0xff0d,
  Pause: 0xff13,
  ScrollLock: 0xff14,
  Escape: 0xff1b,
  Home: 0xff50,
  ArrowLeft: 0xff51,
  ArrowUp: 0xff52,
  ArrowRight: 0xff53,
  ArrowDown: 0xff54,
  PageUp: 0xff55,
  PageDown: 0xff56,
  End: 0xff57,
  PrintScreen: 0xff61,
  Insert: 0xff63,
  ContextMenu: 0xff67,
  NumLock: 0xff7f,
  CapsLock: 0xffe5,
  Delete: 0xffff,
  AltGraph: 0xfe03,
  ShiftLeft: 0xffe1,
  ShiftRight: 0xffe2,
  ControlLeft: 0xffe3,
  ControlRight: 0xffe4,
  AltLeft: 0xffe9,
  AltRight: 0xffea,
  MetaLeft: 0xffeb,
  MetaRight: 0xffec,
}
for (let i = 1; i <= 12; i++) syms[`F${i}`] = 0xffbd + i

const latin1 = 0x100
const unicode = 0x01000000

/** The keysym of a character. */
export function symOf(character: string): number {
  const c = character.codePointAt(0) ?? 0
  return c < latin1 ? c : unicode | c
}

/** A key of this keyboard; nothing where it is neither known by its place nor by its meaning. */
export function keyOf(e: { key: string; code: string }): Key | undefined {
  const sym = [...e.key].length === 1 ? symOf(e.key) : (syms[e.key] ?? syms[e.code] ?? 0)
  const code = codes[e.code] ?? 0
  return sym || code ? { sym, code } : undefined
}

const shortNames: Record<string, string> = {
  Escape: 'escape',
  PrintScreen: 'print-screen',
  PageUp: 'page-up',
  PageDown: 'page-down',
  ArrowUp: 'up',
  ArrowDown: 'down',
  ArrowLeft: 'left',
  ArrowRight: 'right',
  CapsLock: 'caps-lock',
  NumLock: 'num-lock',
  ScrollLock: 'scroll-lock',
  ContextMenu: 'menu',
  Minus: 'minus',
  Equal: '=',
  NumpadEnter: 'enter',
}
const holds: Record<string, string> = {
  ControlLeft: 'ctrl',
  ControlRight: 'ctrl',
  ShiftLeft: 'shift',
  ShiftRight: 'shift',
  AltLeft: 'alt',
  AltRight: 'altgr',
  MetaLeft: 'super',
  MetaRight: 'super',
}
const marks: Record<string, string> = {
  BracketLeft: '[',
  BracketRight: ']',
  Semicolon: ';',
  Quote: "'",
  Backquote: '`',
  Backslash: '\\',
  Comma: ',',
  Period: '.',
  Slash: '/',
}
const nameOf = new Map(
  Object.entries(codes).map(([name, code]) => [
    code,
    shortNames[name] ?? marks[name] ?? holds[name] ?? name.replace(/^(Key|Digit)/, '').toLowerCase(),
  ]),
)
const held = new Set(Object.values(holds))

/** Writes down keys as lines of a sequence: those that are held with those that are pressed meanwhile. */
export class Recorder {
  private down: string[] = []
  private alone = false // what is held has not been used yet
  private readonly lines: string[] = []

  key(down: boolean, k: Key) {
    const name = nameOf.get(k.code)
    if (!name) return
    if (!held.has(name)) {
      if (down) {
        this.lines.push(`key ${[...this.down, name].join('-')}`)
        this.alone = false
      }
      return
    }
    if (down) {
      if (!this.down.includes(name)) this.down.push(name)
      this.alone = true
      return
    }
    if (this.alone) this.lines.push(`key ${this.down.join('-')}`)
    this.alone = false
    this.down = this.down.filter((n) => n !== name)
  }

  press(keys: string[]) {
    for (const k of keys) this.lines.push(`key ${k}`)
  }

  text() {
    return this.lines.map((l) => `${l}\n`).join('')
  }
}
