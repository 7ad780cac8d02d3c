import { useState } from 'react'
import { Link } from 'react-router'
import { useCard, usePorts } from '../api/hooks'
import { ButtonLink } from '../parts/ButtonLink'
import { At } from '../parts/time'
import { Button, Card } from '../parts/ui'

/** The ports of a switch, and whether who is on them is who the estate says. */
export function PortsCard({ device }: { device: string }) {
  const ports = usePorts(device)
  if (!ports.data || ports.data.ports.length === 0) return null
  return (
    <Card title="Ports">
      {ports.data.mismatches.map((m) => (
        <p key={m} className="mb-1 text-strained">
          {m}.
        </p>
      ))}
      <ul className="grid grid-cols-2 gap-x-6 max-sm:grid-cols-1">
        {ports.data.ports.map((p) => (
          <li key={p.port} className="flex justify-between gap-3 border-t border-rule py-1">
            <span className="text-ink3">{p.port}</span>
            <span className={p.up ? '' : 'text-ink3'}>
              {p.device ? (
                <Link className="hover:underline" to={`/devices/${p.device}`}>
                  {p.device}
                </Link>
              ) : (
                (p.neighbour ?? (p.up ? 'up, nobody says who' : 'down'))
              )}
            </span>
          </li>
        ))}
      </ul>
    </Card>
  )
}

/** The card of a PDU, a UPS or a switch: its clock and its log, and its restart. */
export function CardCard({ device, zone }: { device: string; zone: string }) {
  const [wanted, setWanted] = useState(false)
  const card = useCard(device, wanted)
  return (
    <Card title="Its card">
      {!wanted && <Button onClick={() => setWanted(true)}>Read its clock and log</Button>}
      {wanted && card.isPending && <p className="text-ink3">Asking it…</p>}
      {card.isError && <p className="text-hung">{card.error.message}</p>}
      {card.data && (
        <>
          <p className="text-ink2">
            {card.data.clock ? (
              <>
                Clock <At at={card.data.clock} zone={zone} />, {Math.round(card.data.driftSeconds ?? 0)} s against ours.
              </>
            ) : (
              'It has no clock that could be read.'
            )}
          </p>
          <ul className="mt-1.5 max-h-56 overflow-y-auto">
            {card.data.entries.map((e) => (
              <li key={`${e.at}${e.text}`} className="flex justify-between gap-3 border-t border-rule py-1">
                <span>{e.text}</span>
                {e.at && <At at={e.at} zone={zone} />}
              </li>
            ))}
          </ul>
          {card.data.restarts && (
            <p className="mt-2">
              <ButtonLink to={`?act=restart&on=${device}`}>Restart its card…</ButtonLink>
            </p>
          )}
        </>
      )}
    </Card>
  )
}
