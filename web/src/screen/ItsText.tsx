import { useEffect, useState } from 'react'
import { api, unwrap } from '../api/client'
import type { components } from '../api/schema'
import { Button, Loading, Wrong } from '../parts/ui'

/** What text stands on a screen, to be copied. */
export function ItsText({ device, close }: { device: string; close: () => void }) {
  const [text, setText] = useState<components['schemas']['ScreenText']>()
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
    </section>
  )
}
