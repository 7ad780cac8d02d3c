import { TZDate } from '@date-fns/tz'
import { useSyncExternalStore } from 'react'
import type { Board } from '../api/client'

// One clock for everything that shows an age. A component is drawn anew only
// when what it shows has changed, not at every tick.
const listeners = new Set<() => void>()
let ticking: ReturnType<typeof setInterval> | undefined

function onTick(listener: () => void) {
  listeners.add(listener)
  ticking ??= setInterval(() => {
    for (const l of listeners) l()
  }, 1000)
  return () => {
    listeners.delete(listener)
    if (listeners.size === 0) {
      clearInterval(ticking)
      ticking = undefined
    }
  }
}

const thisSecond = () => Math.floor(Date.now() / 1000) * 1000

/** The moment, to the second. */
export const useNow = () => useTicking(thisSecond)

function useTicking<T extends string | number>(read: () => T): T {
  return useSyncExternalStore(onTick, read, read)
}

/** "12 s", "4 min", "3 h", "24 days". */
export function age(ms: number): string {
  const s = Math.max(0, Math.floor(ms / 1000))
  if (s < 60) return `${s} s`
  if (s < 3600) return `${Math.floor(s / 60)} min`
  if (s < 48 * 3600) return `${Math.floor(s / 3600)} h`
  return `${Math.floor(s / 86400)} days`
}

/** Making a formatter takes longer than drawing a row, so each is made once for each zone. */
function formatter(locale: string, options: Intl.DateTimeFormatOptions) {
  const made = new Map<string, Intl.DateTimeFormat>()
  return (at: Date | number, zone: string): string => {
    let f = made.get(zone)
    if (!f) {
      f = new Intl.DateTimeFormat(locale, { ...options, timeZone: zone })
      made.set(zone, f)
    }
    return f.format(at)
  }
}

const day = formatter('en-CA', { dateStyle: 'short' })
const monthDay = formatter('en-GB', { day: 'numeric', month: 'short' })
const timeOfDay = formatter('en-GB', { timeStyle: 'medium' })
const whole = formatter('en-GB', { dateStyle: 'full', timeStyle: 'long' })

/** The time of day in a site's zone, with the date when it is not today's. */
export function clock(at: string, zone: string, now: number): string {
  const d = new Date(at)
  const time = timeOfDay(d, zone)
  if (day(d, zone) === day(now, zone)) return time
  return `${monthDay(d, zone)} ${time.slice(0, 5)}`
}

/** The zone of a site, or of the site of a device; UTC while that is not known. */
export function zoneOf(
  board: Board | undefined,
  of: { site?: string | undefined; device?: string | undefined },
): string {
  const site = of.site ?? board?.devices.find((d) => d.key === of.device)?.site
  return board?.sites.find((s) => s.key === site)?.zone ?? 'UTC'
}

/** The moment, in UTC, at which a clock on a wall in a zone shows "2026-03-29T14:30". */
export function instant(wall: string, zone: string): string {
  const [year = 0, month = 1, day = 1, hour = 0, minute = 0] = wall.split(/\D/).map(Number)
  return new Date(new TZDate(year, month - 1, day, hour, minute, zone).getTime()).toISOString()
}

export const exact = (at: string, zone: string): string => whole(new Date(at), zone)

/** "4 min ago", with the exact time on hover. */
export function Ago({ at, zone }: { at: string; zone: string }) {
  const said = useTicking(() => age(Date.now() - Date.parse(at)))
  return (
    <time dateTime={at} title={exact(at, zone)}>
      {said} ago
    </time>
  )
}

export function At({ at, zone }: { at: string; zone: string }) {
  const said = useTicking(() => clock(at, zone, Date.now()))
  return (
    <time dateTime={at} title={exact(at, zone)}>
      {said}
    </time>
  )
}

/** "22.2 Wh", "1.95 kWh". */
export function wattHours(wh: number | undefined): string {
  if (wh === undefined) return ''
  return wh < 1000 ? `${wh.toFixed(1)} Wh` : `${(wh / 1000).toFixed(2)} kWh`
}

/** "11.2 W", "148 W", "2.31 kW". */
export function watts(w: number | undefined): string {
  if (w === undefined) return ''
  if (w < 100) return `${w.toFixed(1)} W`
  if (w < 1000) return `${w.toFixed(0)} W`
  return `${(w / 1000).toFixed(2)} kW`
}
