import { useEffect, useState } from 'react'
import { api, unwrap } from '../api/client'
import type { components } from '../api/schema'
import { Button, Loading, Wrong } from '../parts/ui'

type ScreenText = components['schemas']['ScreenText']

/** What text stands on a screen, to be copied. */
export function ItsText({ device, close }: { device: string; close: () => void }) {
  const [text, setText] = useState<ScreenText>()
  const [error, setError] = useState<Error>()
  useEffect(() => {
    unwrap(api.GET('/devices/{key}/screen/text', { params: { path: { key: device } } })).then(setText, setError)
  }, [device])
  return (
    <section className="absolute inset-0 flex flex-col overflow-auto rounded-lg bg-panel p-3">
      {error && <Wrong error={error} />}
      {!text && !error && <Loading what="what stands there" />}
      {text && !text.isText && <p>It shows a picture, or text in a font that is not known here.</p>}
      {text?.isText && <pre className="font-mono text-[12px]">{text.rows.join('\n')}</pre>}
      <div className="mt-2 flex flex-wrap items-center gap-2">
        {text?.isText && (
          <Button onClick={() => void navigator.clipboard?.writeText(`${text.rows.join('\n')}\n`)}>Copy it</Button>
        )}
        <Button onClick={close}>Close</Button>
        {text && text.unknown > 0 && (
          <span className="text-[12px] text-ink3">{text.unknown} cells were not recognised: ▯</span>
        )}
      </div>
      {text && (text.unknown > 0 || !text.isText) && <Teach device={device} text={text} learnt={setText} />}
    </section>
  )
}

/** Says what a row of a screen reads, so that its characters are known from then on. */
function Teach({ device, text, learnt }: { device: string; text: ScreenText; learnt: (text: ScreenText) => void }) {
  const unknown = text.rows.findIndex((r) => r.includes('▯'))
  const [row, setRow] = useState(String(unknown + 1 || 1))
  const [says, setSays] = useState(text.rows[unknown] ?? '')
  const [grid, setGrid] = useState('80 x 25')
  const [error, setError] = useState<Error>()
  const teach = (e: React.FormEvent) => {
    e.preventDefault()
    const [columns, lines] = grid.split('x').map((n) => Number.parseInt(n, 10))
    const body = { row: Number(row), says, columns, lines }
    unwrap(api.POST('/devices/{key}/screen/teach', { params: { path: { key: device } }, body })).then((got) => {
      setError(undefined)
      learnt(got.text)
    }, setError)
  }
  const field = 'min-h-8 rounded-md border border-rule2 bg-panel px-2 font-mono max-sm:min-h-11'
  return (
    <form className="mt-3 flex flex-wrap items-end gap-2 text-[12.5px]" onSubmit={teach}>
      <p className="basis-full text-ink2">
        Say what one row reads, from its first column on, and its characters are known from then on.
      </p>
      <label className="flex flex-col gap-1">
        Row
        <input className={`${field} w-16`} inputMode="numeric" value={row} onChange={(e) => setRow(e.target.value)} />
      </label>
      <label className="flex min-w-60 flex-1 flex-col gap-1">
        It reads
        <input className={field} value={says} onChange={(e) => setSays(e.target.value)} />
      </label>
      <label className="flex flex-col gap-1">
        Columns and lines
        <input className={`${field} w-24`} value={grid} onChange={(e) => setGrid(e.target.value)} />
      </label>
      <Button type="submit">Teach it</Button>
      {error && <Wrong error={error} />}
    </form>
  )
}
