import type { Device } from '../api/client'
import { useCheckLeads, useSession } from '../api/hooks'
import { Button, Wrong } from '../parts/ui'

const tone = { right: '', wrong: 'font-medium text-hung', unknown: 'text-ink2' }
const verdict = {
  right: 'is where the estate says',
  wrong: 'is not where the estate says',
  unknown: 'is wired, not proved',
}
const carries = {
  light: 'The light',
  button: 'The button',
  serial: 'The serial line',
  screen: 'The screen',
  keyboard: 'The keyboard',
}

/** Whether the leads to its front and to its serial port are where the estate says. */
export function Leads({ device }: { device: Device }) {
  const check = useCheckLeads(device.summary.key)
  const may = (useSession().data?.role ?? 'viewer') !== 'viewer'
  const wired = device.summary.waysIn.some((w) => ['panel', 'serial', 'screen'].includes(w.kind))
  if (!wired || !may) return null
  return (
    <div className="mt-3 border-t border-rule pt-3">
      <Button disabled={check.isPending} onClick={() => check.mutate()}>
        {check.isPending ? 'Looking…' : 'Check the leads'}
      </Button>
      {check.isError && <Wrong error={check.error} />}
      {check.data && (
        <ul className="mt-2 space-y-2">
          {check.data.leads.map((l) => (
            <li key={l.kind + l.at}>
              <p className={tone[l.verdict]}>
                {carries[l.kind]} at {l.at} {verdict[l.verdict]}: {l.text}
              </p>
              {l.try && <p className="text-ink2">Try: {l.try}</p>}
            </li>
          ))}
          {check.data.leads.length === 0 && <li className="text-ink2">The estate states no leads to it.</li>}
        </ul>
      )}
    </div>
  )
}
