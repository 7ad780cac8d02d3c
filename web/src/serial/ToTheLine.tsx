import { Link } from 'react-router'
import type { Device } from '../api/client'
import { At } from '../parts/time'
import { Card } from '../parts/ui'

/** The way to its serial line, and who is there. */
export function ToTheLine({ device }: { device: Device }) {
  const on = device.summary.atLine ?? []
  return (
    <div className="max-lg:order-4">
      <Card title="Serial line">
        <Link
          to={`/devices/${device.summary.key}/serial`}
          className="inline-flex min-h-8 items-center rounded-md border border-rule2 bg-panel px-3 font-medium max-sm:min-h-11"
        >
          Sit down at it
        </Link>
        {on.length > 0 && (
          <ul className="mt-2">
            {on.map((x) => (
              <li key={x.who + x.since}>
                {x.who} is on since <At at={x.since} zone={device.zone} />
                {x.types && ', and types'}
              </li>
            ))}
          </ul>
        )}
      </Card>
    </div>
  )
}
