import { useState } from 'react'
import { Link } from 'react-router'
import type { Device } from '../api/client'
import { useSession } from '../api/hooks'
import { At } from './time'
import { Card } from './ui'

const ways = {
  serial: { title: 'Serial line', on: 'is on' },
  screen: { title: 'Screen', on: 'is at it' },
}

/** The way to where somebody can sit at a device, and who is there. */
export function ToThePlace({ device, kind }: { device: Device; kind: keyof typeof ways }) {
  const on = (kind === 'serial' ? device.summary.atLine : device.summary.atScreen) ?? []
  return (
    <div className="max-lg:order-4">
      <Card title={ways[kind].title}>
        <Link
          to={`/devices/${device.summary.key}/${kind}`}
          className="inline-flex min-h-8 items-center rounded-md border border-rule2 bg-panel px-3 font-medium max-sm:min-h-11"
        >
          Sit down at it
        </Link>
        {kind === 'screen' && <Glance device={device} />}
        {on.length > 0 && (
          <ul className="mt-2">
            {on.map((x) => (
              <li key={x.who + x.since}>
                {x.who} {ways[kind].on} since <At at={x.since} zone={device.zone} />
                {x.types && ', and types'}
              </li>
            ))}
          </ul>
        )}
      </Card>
    </div>
  )
}

/** What the screen shows, as of a moment: taking a picture is in the journal, so it is asked for. */
function Glance({ device }: { device: Device }) {
  const role = useSession().data?.role
  const [at, setAt] = useState<string>()
  const [failed, setFailed] = useState(false)
  if (role === undefined || role === 'viewer') return null
  const look = () => {
    setFailed(false)
    setAt(new Date().toISOString())
  }
  return (
    <>
      <button type="button" className="ml-3 underline max-sm:min-h-11" onClick={look}>
        {at ? 'Show it as it is now' : 'Show it'}
      </button>
      {at && !failed && (
        <figure className="mt-2">
          <img
            src={`/api/v1/devices/${device.summary.key}/screen/picture?at=${at}`}
            alt={`What the screen of ${device.summary.key} showed`}
            className="w-full rounded border border-rule"
            onError={() => setFailed(true)}
          />
          <figcaption className="text-[12px] text-ink3">
            as of <At at={at} zone={device.zone} />
          </figcaption>
        </figure>
      )}
      {failed && <p className="mt-2 text-strained">It shows nothing now: sit down at it to see why.</p>}
    </>
  )
}
