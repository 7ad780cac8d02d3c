import { useEffect, useRef, useState } from 'react'
import { Link, useParams } from 'react-router'
import { Notices, useNotices } from '../parts/Notices'
import { PowerLinks } from '../parts/PowerLinks'
import { Button } from '../parts/ui'
import { WhoIsOn } from '../parts/WhoIsOn'
import { Line, type LineState, type LineWish } from '../serial/line'
import { fitting, openScreen, type Screen } from '../serial/screen'

/** What somebody has just opened is what they type into. */
const focused = (el: HTMLElement | null) => el?.focus()

const sizes = { phone: 8, desk: 14, least: 6, most: 28 }

export function SerialPage() {
  const { key = '' } = useParams()
  return <AtLine key={key} device={key} />
}

function AtLine({ device }: { device: string }) {
  const frame = useRef<HTMLDivElement>(null)
  const screen = useRef<Screen>(undefined)
  const line = useRef<Line>(undefined)
  const [state, setState] = useState<LineState>({})
  const [connected, setConnected] = useState(false)
  const [ended, setEnded] = useState('')
  const [notices, tell] = useNotices()
  const [size, setSize] = useState(() => (window.innerWidth < 640 ? sizes.phone : sizes.desk))
  const [pasting, setPasting] = useState('')
  const [finding, setFinding] = useState(false)

  useEffect(() => {
    const into = frame.current
    if (!into) return
    const s = openScreen(into, window.innerWidth < 640 ? sizes.phone : sizes.desk, (text) => line.current?.type(text))
    screen.current = s
    line.current = new Line(
      device,
      { state: setState, connected: setConnected, notice: tell, ended: setEnded },
      (bytes) => s.terminal.write(bytes),
    )
    const paste = (e: ClipboardEvent) => {
      e.preventDefault()
      e.stopPropagation()
      setPasting(e.clipboardData?.getData('text') ?? '')
    }
    into.addEventListener('paste', paste, true)
    s.terminal.focus()
    return () => {
      into.removeEventListener('paste', paste, true)
      line.current?.leave()
      s.close()
    }
  }, [device, tell])

  // The terminal is as large as there is room for it.
  useEffect(() => {
    const refit = () => {
      const into = frame.current
      const t = screen.current?.terminal
      if (!into || !t) return
      const { columns, rows } = fitting(into.clientWidth, into.clientHeight, size)
      t.options.fontSize = size
      t.resize(columns, rows)
      line.current?.wish({ do: 'size', columns, rows })
    }
    refit()
    window.addEventListener('resize', refit)
    return () => window.removeEventListener('resize', refit)
  }, [size])

  const wish = (w: LineWish) => {
    line.current?.wish(w)
    screen.current?.terminal.focus()
  }
  const type = (text: string) => {
    line.current?.type(text)
    screen.current?.terminal.focus()
  }
  const keep = () => saveText(device, screen.current)

  return (
    <div className="flex h-[calc(100dvh-3.5rem)] flex-col gap-2 px-5 py-3 max-sm:px-2">
      <header className="flex flex-wrap items-baseline gap-x-3 gap-y-1">
        <h1 className="text-[17px] font-semibold">
          <Link to={`/devices/${device}`} className="underline decoration-rule2 underline-offset-4">
            {device}
          </Link>{' '}
          serial line
        </h1>
        <span className={state.up && connected ? 'text-ink2' : 'text-strained'} role="status">
          {ended ||
            (connected
              ? [state.line, state.port].filter(Boolean).join(', ')
              : 'the connection to Plumb Bob is lost; it comes back by itself')}
        </span>
      </header>
      <WhoIsOn state={state} wish={wish}>
        <Alone state={state} wish={wish} />
      </WhoIsOn>
      <div ref={frame} className="min-h-0 flex-1 overflow-auto rounded-lg border border-rule bg-[#11151c] p-1.5" />
      <Notices all={notices} />
      <Keys type={type} wish={wish} />
      <div className="flex flex-wrap gap-2">
        <Button onClick={() => setSize((n) => Math.max(sizes.least, n - 1))} aria-label="Smaller text">
          A−
        </Button>
        <Button onClick={() => setSize((n) => Math.min(sizes.most, n + 1))} aria-label="Larger text">
          A+
        </Button>
        <Button onClick={() => setFinding((f) => !f)}>Find</Button>
        <Button onClick={() => void navigator.clipboard?.writeText(screen.current?.terminal.getSelection() ?? '')}>
          Copy
        </Button>
        <Button onClick={() => setPasting(' ')}>Paste…</Button>
        <Button onClick={keep}>Save what was said</Button>
        <PowerLinks device={device} />
      </div>
      {finding && <Find screen={screen.current} />}
      {pasting !== '' && (
        <Paste
          text={pasting.trim() === '' ? '' : pasting}
          send={(text) => {
            type(text.replace(/\r?\n/g, '\r'))
            setPasting('')
          }}
          close={() => setPasting('')}
        />
      )}
    </div>
  )
}

/** Being alone at the line, for what is nobody else's business. */
function Alone({ state, wish }: { state: LineState; wish: (w: LineWish) => void }) {
  const mine = state.seats?.find((s) => s.id === state.seat)
  if (!mine) return null
  if (mine.types && !state.alone)
    return <Button onClick={() => wish({ do: 'alone', minutes: 10 })}>Be alone for 10 min</Button>
  if (mine.types) return <Button onClick={() => wish({ do: 'alone', minutes: 0 })}>Show it to others again</Button>
  if (!state.alone) return null
  return <span className="text-strained">{state.alone.who} is alone: what the line says is not shown to you now.</span>
}

const keys: { name: string; text: string }[] = [
  { name: 'Esc', text: '\x1b' },
  { name: 'Tab', text: '\t' },
  { name: '↑', text: '\x1b[A' },
  { name: '↓', text: '\x1b[B' },
  { name: '←', text: '\x1b[D' },
  { name: '→', text: '\x1b[C' },
  { name: 'Del', text: '\x1b[3~' },
  { name: 'Ctrl-C', text: '\x03' },
  { name: 'Ctrl-D', text: '\x04' },
  { name: 'F2', text: '\x1bOQ' },
  { name: 'F10', text: '\x1b[21~' },
  { name: 'F12', text: '\x1b[24~' },
]

/** Keys that a phone has not got, and that menus want. */
function Keys({ type, wish }: { type: (text: string) => void; wish: (w: LineWish) => void }) {
  return (
    <div className="flex gap-1.5 overflow-x-auto pb-0.5">
      {keys.map((k) => (
        <Button key={k.name} className="shrink-0 px-2.5" onClick={() => type(k.text)}>
          {k.name}
        </Button>
      ))}
      <Button className="shrink-0 px-2.5" onClick={() => wish({ do: 'break' })}>
        Break
      </Button>
    </div>
  )
}

function Find({ screen }: { screen?: Screen }) {
  const [text, setText] = useState('')
  return (
    <form
      className="flex gap-2"
      onSubmit={(e) => {
        e.preventDefault()
        screen?.search.findPrevious(text)
      }}
    >
      <input
        ref={focused}
        value={text}
        onChange={(e) => setText(e.target.value)}
        aria-label="Find in what was said"
        className="min-h-8 flex-1 rounded-md border border-rule2 bg-panel px-2 max-sm:min-h-11"
      />
      <Button type="submit">Further up</Button>
      <Button onClick={() => screen?.search.findNext(text)}>Further down</Button>
    </form>
  )
}

const bytesInASecond = 500 // as the service paces what comes in one piece

/** What is pasted is looked at before it goes to a line that obeys every Enter in it. */
function Paste({ text, send, close }: { text: string; send: (text: string) => void; close: () => void }) {
  const [value, setValue] = useState(text)
  const bytes = new TextEncoder().encode(value).length
  const lines = value.split('\n').length
  return (
    <form
      className="rounded-lg border border-rule2 bg-panel p-3"
      onSubmit={(e) => {
        e.preventDefault()
        send(value)
      }}
    >
      <label className="block text-[12px] text-ink3" htmlFor="paste">
        This goes to the line: each end of a line in it is the Enter key.
      </label>
      <textarea
        id="paste"
        ref={focused}
        rows={Math.min(8, Math.max(3, lines))}
        value={value}
        onChange={(e) => setValue(e.target.value)}
        className="my-2 w-full rounded-md border border-rule2 bg-sunk p-2 font-mono text-[12px]"
      />
      <div className="flex flex-wrap items-center gap-2">
        <Button tone="strong" type="submit" disabled={value === ''}>
          Send
        </Button>
        <Button onClick={close}>Cancel</Button>
        <span className="text-[12px] text-ink3">
          {bytes} bytes in {lines} {lines === 1 ? 'line' : 'lines'}, which takes {Math.ceil(bytes / bytesInASecond)} s
        </span>
      </div>
    </form>
  )
}

/** Saves all that the terminal still has as a text file. */
function saveText(device: string, screen?: Screen) {
  const buffer = screen?.terminal.buffer.active
  if (!buffer) return
  const lines: string[] = []
  for (let i = 0; i < buffer.length; i++) lines.push(buffer.getLine(i)?.translateToString(true) ?? '')
  const text = `${lines.join('\n').trimEnd()}\n`
  const a = document.createElement('a')
  a.href = URL.createObjectURL(new Blob([text], { type: 'text/plain' }))
  a.download = `${device}-serial.txt`
  a.click()
  URL.revokeObjectURL(a.href)
}
