import { useEffect, useState } from 'react'
import { Button } from '../parts/ui'
import type { Edid } from './view'

/** Another display is tried, which goes back by itself unless somebody sees a picture and says so. */
export function DisplayTrial({ edid, keep }: { edid: Edid; keep: () => void }) {
  const [now, setNow] = useState(Date.now())
  useEffect(() => {
    const timer = setInterval(() => setNow(Date.now()), 500)
    return () => clearInterval(timer)
  }, [])
  const left = Math.ceil((new Date(edid.until ?? now).getTime() - now) / 1000)
  return (
    <p className="flex flex-wrap items-center gap-2 border-l-2 border-brass pl-2 text-[12.5px] text-ink2">
      <span>
        Its KVM pretends to be a display {edid.tries} now.{' '}
        {left > 0
          ? `It goes back to ${edid.is} in ${left} s, unless you see a picture and keep it.`
          : `It goes back to ${edid.is}.`}
      </span>
      <Button onClick={keep}>Keep {edid.tries}</Button>
    </p>
  )
}
