import type { Device, Reason } from '../api/client'
import { useLook } from '../api/hooks'
import { words } from '../marks/Mark'
import { capital, sentence } from './say'
import { At, useNow } from './time'
import { Button, Card } from './ui'

export function Why({ device }: { device: Device }) {
  const v = device.summary.verdict
  return (
    <div className="max-lg:order-1">
      <Card
        title={`Why we say ${words(v.state)}`}
        aside={
          <span>
            since <At at={v.since} zone={device.zone} />
          </span>
        }
      >
        <Attended device={device} />
        {(['for', 'against', 'note'] as const).map((stance) => (
          <Reasons
            key={stance}
            stance={stance}
            list={v.reasons.filter((r) => r.stance === stance)}
            zone={device.zone}
          />
        ))}
        <LookAgain device={device.summary.key} />
      </Card>
    </div>
  )
}

/** Asks at once all that shows how it is: it harms nobody, and may settle what is in doubt. */
function LookAgain({ device }: { device: string }) {
  const look = useLook(device)
  const asked = look.data?.asked ?? []
  return (
    <div className="mt-3 flex flex-wrap items-center gap-3">
      <Button disabled={look.isPending} onClick={() => look.mutate()}>
        {look.isPending ? 'Looking…' : 'Look again'}
      </Button>
      <span className="min-w-0 flex-1 text-[12px] text-ink3" role="status">
        {look.isPending && 'Who does not answer takes a few seconds.'}
        {look.isError && String(look.error.message)}
        {look.isSuccess && `Asked just now: ${asked.join(', ')}.`}
      </span>
    </div>
  )
}

const stances = { for: 'What speaks for it', against: 'What speaks against it', note: 'What is known besides' }

/** The reasons of one kind together, under one heading. */
function Reasons({ stance, list, zone }: { stance: keyof typeof stances; list: Reason[]; zone: string }) {
  const now = useNow()
  if (list.length === 0) return null
  return (
    <section className="mt-2 first:mt-0">
      <h3 className="text-[12px] text-ink3">{stances[stance]}</h3>
      <ul>
        {list.map((r) => (
          <li key={r.text} className="flex justify-between gap-4 py-0.5">
            <span className={stance === 'note' ? 'text-ink2' : ''}>{capital(sentence(r, zone, now))}</span>
            <span className="text-right whitespace-nowrap text-ink3 max-sm:hidden">
              {r.at && !r.since && <At at={r.at} zone={zone} />}
            </span>
          </li>
        ))}
      </ul>
    </section>
  )
}

/** Who sees to it, and what was noted last: whoever is about to act should know. */
function Attended({ device }: { device: Device }) {
  const i = device.incident
  const noted = i?.notes[i.notes.length - 1]
  if (!i || (!i.seen && !noted)) return null
  return (
    <p className="mb-2 border-l-2 border-brass pl-3">
      {i.seen && (
        <>
          <b>{i.seen.by} sees to it</b>, since <At at={i.seen.at} zone={device.zone} />.{' '}
        </>
      )}
      {noted && `${noted.by} has noted: ${noted.text}`}
    </p>
  )
}
