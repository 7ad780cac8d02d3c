import { useState } from 'react'
import { Button } from '../parts/ui'

/** What a keyboard here cannot send, or a phone has not got. */
const row = [
  { name: 'Ctrl-Alt-Del', keys: ['ctrl-alt-delete'] },
  { name: 'Esc', keys: ['escape'] },
  { name: 'Tab', keys: ['tab'] },
  { name: 'Enter', keys: ['enter'] },
  { name: '↑', keys: ['up'] },
  { name: '↓', keys: ['down'] },
  { name: '←', keys: ['left'] },
  { name: '→', keys: ['right'] },
  { name: 'Del', keys: ['delete'] },
  { name: 'F2', keys: ['f2'] },
  { name: 'F8', keys: ['f8'] },
  { name: 'F10', keys: ['f10'] },
  { name: 'F11', keys: ['f11'] },
  { name: 'F12', keys: ['f12'] },
  { name: 'Alt-Tab', keys: ['alt-tab'] },
  { name: 'Alt-F4', keys: ['alt-f4'] },
  { name: 'Ctrl-W', keys: ['ctrl-w'] },
  { name: 'Super', keys: ['super'] },
  { name: 'PrtSc', keys: ['print-screen'] },
]

export function KeyRow({ press }: { press: (keys: string[]) => void }) {
  const [other, setOther] = useState('')
  return (
    <div className="flex gap-1.5 overflow-x-auto pb-0.5">
      {row.map((k) => (
        <Button key={k.name} className="shrink-0 px-2.5" onClick={() => press(k.keys)}>
          {k.name}
        </Button>
      ))}
      <form
        className="flex shrink-0 gap-1.5"
        onSubmit={(e) => {
          e.preventDefault()
          if (other.trim()) press(other.trim().split(/\s+/))
        }}
      >
        <input
          value={other}
          onChange={(e) => setOther(e.target.value)}
          placeholder="ctrl-alt-f2"
          aria-label="Other keys, one after the other"
          className="min-h-8 w-32 rounded-md border border-rule2 bg-panel px-2 max-sm:min-h-11"
        />
        <Button type="submit">Press</Button>
      </form>
    </div>
  )
}

/** Layouts of keyboards that texts can be typed on. */
const layouts = { us: 'United States', uk: 'United Kingdom', de: 'German', fr: 'French', no: 'Norwegian' }
const keysInASecond = 33

/** The layout that the device has. */
export function Layout({ layout, setLayout }: { layout: string; setLayout: (layout: string) => void }) {
  return (
    <label className="inline-flex items-center gap-1.5 text-[12.5px] text-ink2">
      Its keyboard
      <select
        value={layout}
        onChange={(e) => setLayout(e.target.value)}
        className="min-h-8 rounded-md border border-rule2 bg-panel px-2 max-sm:min-h-11"
      >
        {Object.entries(layouts).map(([key, name]) => (
          <option key={key} value={key}>
            {name}
          </option>
        ))}
      </select>
    </label>
  )
}

export function TypeText({
  layout,
  setLayout,
  send,
  close,
}: {
  layout: string
  setLayout: (layout: string) => void
  send: (text: string) => void
  close: () => void
}) {
  const [text, setText] = useState('')
  return (
    <form
      className="rounded-lg border border-rule2 bg-panel p-3"
      onSubmit={(e) => {
        e.preventDefault()
        send(text)
      }}
    >
      <label className="block text-[12px] text-ink3" htmlFor="typed">
        This is typed on the device's keyboard: each end of a line is the Enter key.
      </label>
      <textarea
        id="typed"
        ref={(el) => el?.focus()}
        rows={3}
        value={text}
        onChange={(e) => setText(e.target.value)}
        className="my-2 w-full rounded-md border border-rule2 bg-sunk p-2 font-mono text-[12px]"
      />
      <div className="flex flex-wrap items-center gap-2">
        <Button tone="strong" type="submit" disabled={text === ''}>
          Type it
        </Button>
        <Button onClick={close}>Cancel</Button>
        <Layout layout={layout} setLayout={setLayout} />
        <span className="text-[12px] text-ink3">
          {text.length} keys, which takes {Math.ceil(text.length / keysInASecond)} s
        </span>
      </div>
    </form>
  )
}
