import { useCallback, useEffect, useRef, useState } from 'react'
import { Link, useParams } from 'react-router'
import { Notices, useNotices } from '../parts/Notices'
import { PowerLinks } from '../parts/PowerLinks'
import { Button } from '../parts/ui'
import { WhoIsOn } from '../parts/WhoIsOn'
import { DisplayTrial } from '../screen/DisplayTrial'
import { Hint } from '../screen/Hint'
import { ItsPast } from '../screen/ItsPast'
import { ItsText } from '../screen/ItsText'
import { useInput } from '../screen/input'
import { KeyRow, TypeText } from '../screen/KeyRow'
import { OwnKeyboard } from '../screen/OwnKeyboard'
import { Sequences } from '../screen/Sequences'
import { Stage, useStage } from '../screen/Stage'
import { ViewMenu } from '../screen/ViewMenu'
import { type Playing, View, type ViewLink, type ViewState, type ViewWish } from '../screen/view'

export function ScreenPage() {
  const { key = '' } = useParams()
  return <AtScreen key={key} device={key} />
}

function AtScreen({ device }: { device: string }) {
  const canvas = useRef<HTMLCanvasElement>(null)
  const view = useRef<View>(undefined)
  const [state, setState] = useState<ViewState>({})
  const [connected, setConnected] = useState(false)
  const [ended, setEnded] = useState('')
  const [link, setLink] = useState<ViewLink>()
  const [size, setSize] = useState<{ width: number; height: number }>()
  const [notices, tell] = useNotices()
  const [typing, setTyping] = useState(false)
  const [keyboard, setKeyboard] = useState(false)
  const [layout, setLayout] = useState('us')
  const [pointer, setPointer] = useState(true)
  const [rows, setRows] = useState(false)
  const [playing, setPlaying] = useState<Playing>()
  const [reading, setReading] = useState(false)
  const [past, setPast] = useState(false)

  useEffect(() => {
    const on = canvas.current
    if (!on) return
    const v = new View(device, { state: setState, connected: setConnected, notice: tell, ended: setEnded }, on, {
      link: setLink,
      size: (width, height) => setSize({ width, height }),
      playing: setPlaying,
    })
    view.current = v
    on.focus()
    return () => v.leave()
  }, [device, tell])

  const [display, setDisplay] = useState(0) // 0: all of them
  const stage = useStage(size ?? { width: 1, height: 1 }, state.displays?.[display - 1])
  const input = useInput(canvas, view, stage.seen)
  const wish = useCallback((w: ViewWish) => {
    view.current?.wish(w)
    canvas.current?.focus()
  }, [])

  return (
    <div className="flex h-[calc(100dvh-3.5rem)] flex-col gap-2 px-5 py-3 max-sm:px-2">
      <header className="flex flex-wrap items-baseline gap-x-3 gap-y-1">
        <h1 className="text-[17px] font-semibold">
          <Link to={`/devices/${device}`} className="underline decoration-rule2 underline-offset-4">
            {device}
          </Link>{' '}
          screen
        </h1>
        <span className={state.up && connected ? 'text-ink2' : 'text-strained'} role="status">
          {ended || (connected ? state.screen : 'the connection to Plumb Bob is lost; it comes back by itself')}
        </span>
        {connected && <HowItGoes link={link} size={size} awake={state.awake !== undefined} />}
      </header>
      <WhoIsOn state={state} wish={wish} looks={state.lookOnly}>
        {state.waits && <Button onClick={() => wish({ do: 'ask' })}>Ask them to leave</Button>}
        {state.waits && state.mayTake && <Button onClick={() => wish({ do: 'take' })}>Show this one now</Button>}
        {state.moved && <Button onClick={() => wish({ do: 'again' })}>Show this one again</Button>}
      </WhoIsOn>
      <Hint device={device} state={state} view={view} />
      {state.edid?.tries && <DisplayTrial edid={state.edid} keep={() => wish({ do: 'keep' })} />}
      <Stage
        box={stage.box}
        takes={stage.shown.takes}
        over={
          <>
            {past && <ItsPast device={device} close={() => setPast(false)} />}
            {reading && <ItsText device={device} close={() => setReading(false)} />}
          </>
        }
      >
        <canvas
          ref={canvas}
          width={1}
          height={1}
          tabIndex={0}
          aria-label={`The screen of ${device}: what is typed here goes to it`}
          style={stage.shown.canvas}
          className={`absolute top-0 left-0 max-w-none outline-none focus-visible:ring-2 focus-visible:ring-brass ${pointer ? 'cursor-crosshair' : 'cursor-none'} ${input.points ? 'touch-none' : ''}`}
          {...input.on}
        />
      </Stage>
      <Notices all={notices} />
      {!state.lookOnly && !keyboard && <KeyRow press={(keys) => wish({ do: 'press', keys })} />}
      {keyboard && <OwnKeyboard view={view} layout={layout} setLayout={setLayout} />}
      <div className={`flex gap-2 ${keyboard ? 'overflow-x-auto *:shrink-0 sm:flex-wrap' : 'flex-wrap'}`}>
        <ViewMenu
          lie={stage.lie}
          setLie={stage.setLie}
          displays={state.displays?.length ?? 0}
          display={display}
          setDisplay={setDisplay}
          pointer={pointer}
          setPointer={setPointer}
          full={() => void canvas.current?.parentElement?.parentElement?.requestFullscreen()}
          awake={state.awake}
          keepAwake={state.lookOnly ? undefined : (minutes) => wish({ do: 'awake', minutes })}
          replug={state.replugs ? () => wish({ do: 'replug' }) : undefined}
          edid={state.lookOnly ? undefined : state.edid}
          pretend={(name) => wish({ do: 'pretend', name })}
          hold={state.lookOnly ? undefined : () => void canvas.current?.requestPointerLock()}
        />
        <Button onClick={() => wish({ do: 'again' })}>Draw it again</Button>
        {!state.lookOnly && <Button onClick={() => setTyping((t) => !t)}>Type a text…</Button>}
        {!state.lookOnly && <Button onClick={() => setRows((r) => !r)}>Sequences…</Button>}
        {!state.lookOnly && (
          <Button aria-pressed={keyboard} onClick={() => setKeyboard((k) => !k)}>
            {keyboard ? 'No keyboard' : 'Keyboard to touch'}
          </Button>
        )}
        <Button onClick={() => save(device, canvas.current)}>Save a picture</Button>
        <Button
          onClick={() => {
            setPast(false)
            setReading((r) => !r)
          }}
        >
          Read its text
        </Button>
        <Button
          onClick={() => {
            setReading(false)
            setPast((p) => !p)
          }}
        >
          What it showed
        </Button>
        {!state.lookOnly && (
          <Button className="sm:hidden" onClick={() => input.setPoints(!input.points)}>
            {input.points ? 'Fingers point' : 'Fingers move the page'}
          </Button>
        )}
        {(state.lookOnly ? [] : (['keyboard', 'pointer'] as const)).map((what) => (
          <label
            key={what}
            className="inline-flex min-h-8 items-center gap-1.5 text-[12.5px] text-ink2 max-sm:min-h-11"
          >
            <input
              type="checkbox"
              checked={!input.off[what]}
              onChange={(e) => input.setOff({ ...input.off, [what]: !e.target.checked })}
            />
            {what === 'keyboard' ? 'Keyboard' : 'Pointer'}
          </label>
        ))}
        <Colours link={link} choose={(form) => wish({ do: 'form', form })} />
        <PowerLinks device={device} />
      </div>
      {rows && <Sequences view={view} playing={playing} layout={layout} close={() => setRows(false)} />}
      {typing && (
        <TypeText
          layout={layout}
          setLayout={setLayout}
          close={() => setTyping(false)}
          send={(text) => {
            wish({ do: 'press', text, layout })
            setTyping(false)
          }}
        />
      )}
    </div>
  )
}

const slow = 500 // ms

/** How far away it is, and how large. */
function HowItGoes({
  link,
  size,
  awake,
}: {
  link?: ViewLink
  size?: { width: number; height: number }
  awake: boolean
}) {
  const words = []
  if (size) words.push(`${size.width} × ${size.height}`)
  if (link && link.ms >= slow) words.push(`${(link.ms / 1000).toFixed(1)} s behind`)
  else if (link?.ms) words.push(`${link.ms} ms behind`)
  if (link?.rate) words.push(`${Math.round(link.rate / 1000)} kB/s`)
  if (link?.form === 'few') words.push('fewer colours')
  if (awake) words.push('kept awake')
  return <span className="text-[12px] text-ink3">{words.join(', ')}</span>
}

function Colours({ link, choose }: { link?: ViewLink; choose: (form: string) => void }) {
  const [form, setForm] = useState('auto')
  return (
    <label className="inline-flex items-center gap-1.5 text-[12.5px] text-ink2">
      Colours
      <select
        value={form}
        onChange={(e) => {
          setForm(e.target.value)
          choose(e.target.value)
        }}
        className="min-h-8 rounded-md border border-rule2 bg-panel px-2 max-sm:min-h-11"
      >
        <option value="auto">as the link allows{link?.form === 'few' ? ': few now' : ''}</option>
        <option value="full">all of them</option>
        <option value="few">256, photographs coarser</option>
      </select>
    </label>
  )
}

function save(device: string, canvas: HTMLCanvasElement | null) {
  canvas?.toBlob((blob) => {
    if (!blob) return
    const a = document.createElement('a')
    a.href = URL.createObjectURL(blob)
    a.download = `${device}-${new Date().toISOString().replace(/[:.]/g, '-')}.png`
    a.click()
    URL.revokeObjectURL(a.href)
  })
}
