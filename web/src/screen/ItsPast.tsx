import { useEffect, useState } from 'react'
import { api, unwrap } from '../api/client'
import { useDevice } from '../api/hooks'
import type { components } from '../api/schema'
import { exact } from '../parts/time'
import { Button, Loading, Wrong } from '../parts/ui'

type Kept = components['schemas']['KeptPicture']

/** What a screen showed before its device fell silent, picture by picture. */
export function ItsPast({ device, close }: { device: string; close: () => void }) {
  const [all, setAll] = useState<Kept[]>()
  const [error, setError] = useState<Error>()
  const [n, setN] = useState(0)
  const zone = useDevice(device).data?.zone ?? 'UTC'
  useEffect(() => {
    unwrap(api.GET('/devices/{key}/screen/past', { params: { path: { key: device } } })).then((kept) => {
      setAll(kept.reverse()) // the newest comes first
      setN(kept.length - 1)
    }, setError)
  }, [device])
  const shown = all?.[n]
  const address = shown && `/api/v1/devices/${device}/screen/past/picture?at=${encodeURIComponent(shown.at)}`
  return (
    <section className="absolute inset-0 flex flex-col overflow-auto rounded-lg bg-panel p-3">
      {error && <Wrong error={error} />}
      {!all && !error && <Loading what="what it showed" />}
      {all?.length === 0 && (
        <p>
          Nothing is kept: it is when the device falls silent, with <code>watch: true</code> at the endpoint of its
          screen in the estate.
        </p>
      )}
      {all && shown && (
        <>
          <img
            src={address}
            alt={`What the screen of ${device} showed`}
            className="mx-auto min-h-0 max-w-full flex-1 rounded border border-rule object-contain"
          />
          <div className="mt-2 flex flex-wrap items-center gap-2">
            <Button disabled={n === 0} onClick={() => setN(n - 1)}>
              Before
            </Button>
            <input
              type="range"
              min={0}
              max={all.length - 1}
              value={n}
              onChange={(e) => setN(e.target.valueAsNumber)}
              aria-label="Which picture"
              className="min-w-0 flex-1"
            />
            <Button disabled={n === all.length - 1} onClick={() => setN(n + 1)}>
              After
            </Button>
          </div>
          <p className="mt-1 text-[12.5px] text-ink2">
            <time dateTime={shown.at}>{exact(shown.at, zone)}</time>, {n + 1} of {all.length}; kept because {shown.why}
          </p>
        </>
      )}
      <div className="mt-2 flex flex-wrap gap-2">
        {shown && (
          <a
            className="inline-flex min-h-8 items-center underline max-sm:min-h-11"
            href={address}
            download={`${device}-${shown.at}.png`}
          >
            Save this one
          </a>
        )}
        <Button onClick={close}>Close</Button>
      </div>
    </section>
  )
}
