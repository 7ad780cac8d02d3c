import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import type { ReactElement } from 'react'
import { renderToStaticMarkup } from 'react-dom/server'
import { MemoryRouter } from 'react-router'
import { describe, expect, it } from 'vitest'
import type { Device, GearEvent, Sensor, Sheet } from '../api/client'
import { EstatePage, isBehind } from '../pages/Estate'
import { actionName, actionsFor } from '../parts/say'
import { ControllerCard } from './Controller'
import { EventLog, matches } from './EventLog'
import { grouped, Readings, range } from './Readings'
import { SheetCard, sheetLines, sheetText } from './Sheet'

function render(element: ReactElement, known: [unknown[], unknown][] = []) {
  const client = new QueryClient()
  for (const [key, value] of known) client.setQueryData(key, value)
  return renderToStaticMarkup(
    <QueryClientProvider client={client}>
      <MemoryRouter>{element}</MemoryRouter>
    </QueryClientProvider>,
  )
}

const text = (markup: string) =>
  markup
    .replace(/<[^>]*>/g, ' ')
    .replace(/\s+/g, ' ')
    .trim()

const sensor = (
  name: string,
  kind: string,
  level: Sensor['level'],
  value?: number,
  more: Partial<Sensor> = {},
): Sensor => ({
  name,
  series: name,
  kind,
  where: '',
  digits: 0,
  text: value === undefined ? 'present' : `${value} units`,
  level,
  ...(value === undefined ? {} : { value }),
  ...more,
})

describe('the readings', () => {
  const limits = { lowCritical: 0, lowWarning: 4, highWarning: 38, highCritical: 42 }
  const list = [
    sensor('Inlet', 'temperature', 'fine', 21, { limits, past: [20, 21, 22] }),
    sensor('Fan 1', 'fan', 'fine', 5000),
    sensor('Fan 2', 'fan', 'critical', 0),
    sensor('CPU', 'temperature', 'warning', 86),
    sensor('PSU 2', 'power supply', 'warning'),
    sensor('Lid', 'intrusion', 'fine'),
    sensor('12 V', 'voltage', 'absent'),
  ]
  it('show what is out of bounds first, the worst of it before the rest', () => {
    const groups = grouped(list.filter((s) => s.value !== undefined))
    expect(groups.map(([kind, members]) => [kind, members.map((s) => s.name)])).toEqual([
      ['out of bounds', ['Fan 2', 'CPU']],
      ['temperature', ['Inlet']],
      ['fan', ['Fan 1']],
    ])
  })
  it('leave room around the thresholds, and contain the value', () => {
    for (const s of list.filter((x) => x.value !== undefined)) {
      const [lo, hi] = range(s)
      expect(lo).toBeLessThanOrEqual(s.value ?? 0)
      expect(hi).toBeGreaterThan(s.value ?? 0)
    }
    const [lo, hi] = range(list[0] as Sensor)
    expect(lo).toBeLessThan(0)
    expect(hi).toBeGreaterThan(42)
  })
  it('are drawn as bars, with states in words and nothing made up for what is absent', () => {
    const at = '2026-03-01T14:00:00Z'
    const markup = render(<Readings device="host" zone="UTC" />, [
      [['device', 'host', 'sensors'], { at, fresh: false, sensors: list }],
    ])
    expect(markup.match(/role="img"/g)).toHaveLength(4)
    expect(markup).toContain('aria-label="0 units, critical"')
    expect(markup).toContain('<polyline')
    const said = text(markup)
    expect(said).toContain('stale: read')
    expect(said).toContain('PSU 2: present')
    expect(said).toContain('1 more with states, none of them wrong; 1 not measured now')
  })
  it('say when there are none yet', () => {
    const markup = render(<Readings device="host" zone="UTC" />, [
      [['device', 'host', 'sensors'], { fresh: false, sensors: [] }],
    ])
    expect(text(markup)).toContain('have not been read yet')
  })
})

describe('the event log', () => {
  const event = (id: number, level: GearEvent['level'], words: string, more: Partial<GearEvent> = {}): GearEvent => ({
    id,
    sensor: 'Fan 2',
    kind: 'fan',
    text: words,
    gone: false,
    level,
    raw: '00',
    ...more,
  })
  it('is filtered by what went wrong and by words', () => {
    const bad = event(1, 'critical', 'below its limit')
    expect(matches(bad, 'wrong', '')).toBe(true)
    expect(matches(event(2, 'fine', 'log cleared'), 'wrong', '')).toBe(false)
    expect(matches(bad, 'all', ' FAN ')).toBe(true)
    expect(matches(bad, 'all', 'memory')).toBe(false)
  })
  it('shows the newest, with the time as the controller has it', () => {
    const events = [
      event(12, 'critical', 'below its limit', { at: '2026-03-01T14:00:00Z' }),
      event(11, 'fine', 'reconfigured', { afterSeconds: 42 }),
      ...Array.from({ length: 9 }, (_, i) => event(i, 'fine', `old ${i}`)),
    ]
    const said = text(
      render(<EventLog device="host" zone="UTC" />, [
        [['device', 'host', 'events'], { at: '2026-03-01T14:01:00Z', full: true, free: 0, version: 'v', events }],
      ]),
    )
    expect(said).toContain('start + 42 s')
    expect(said).toContain('time not known')
    expect(said).toContain('Show 3 older ones')
    expect(said).toContain('The log is full')
  })
})

const sheet = (device: string, product?: string, firmware?: string): Sheet => ({
  device,
  site: 's',
  words: 'host',
  faults: [],
  ...(product ? { product } : {}),
  ...(firmware ? { firmware } : {}),
})

describe('the sheet', () => {
  it('leaves out what is not known, and can be copied as text', () => {
    const lines = sheetLines({ ...sheet('host', 'Gannet 2U', '2.37'), serial: 'G-1', onHours: 12 })
    expect(sheetText(lines)).toBe('device: host\nproduct: Gannet 2U\nserial: G-1\nfirmware: 2.37\non for: 12 hours')
    const markup = render(<SheetCard device="host" />, [
      [
        ['device', 'host', 'sheet'],
        { ...sheet('host', 'Gannet 2U', '2.37'), serial: 'G-1', onHours: 12, faults: ['a checksum is wrong'] },
      ],
    ])
    expect(text(markup)).toContain('Copy the sheet')
    expect(text(markup)).toContain('Not readable: a checksum is wrong')
  })
  it('stands beside its sisters', () => {
    const all = [sheet('a', 'G', '2.37'), sheet('b', 'G', '2.9'), sheet('c', 'H', '1.0'), sheet('d')]
    expect(all.map((s) => isBehind(s, all))).toEqual([false, true, false, false])
    const said = text(render(<EstatePage />, [[['sheets'], all]]))
    expect(said).toContain('b host s G 2.9 behind a sister')
  })
})

describe('the controller', () => {
  const device = (more: Partial<Device>): Device =>
    ({
      summary: { key: 'host', verdict: { state: 'steady' } },
      weaknesses: [{ name: 'clock', text: 'its clock is 7 min ahead', remedy: 'plumb controller clock host --set' }],
      ...more,
    }) as Device
  it('says what it knows of the chassis, how old that is, and what is weak', () => {
    const said = text(
      render(
        <ControllerCard
          device={device({
            chassis: {
              fresh: false,
              on: true,
              asleep: false,
              w: 212,
              state: 'S0, working',
              restore: 'stays off',
              watchdog: 'armed: reset in 42 s',
              faults: ['a fan has failed'],
            },
          })}
        />,
      ),
    )
    for (const want of [
      'stale: was on, 212 W, S0, working',
      'stays off',
      'armed: reset in 42 s',
      'a fan has failed',
      'its clock is 7 min ahead',
      'plumb controller clock host --set',
    ]) {
      expect(said).toContain(want)
    }
    expect(text(render(<ControllerCard device={device({})} />))).toContain('has not said anything yet')
  })
})

describe('what can be done to a server', () => {
  const d = (state: string) =>
    ({
      key: 'host',
      acts: ['on', 'shutdown', 'reset', 'cycle', 'nmi', 'off'].map((kind) => ({ kind, means: 'chassis' })),
      feeds: [
        { outlet: 'a/4', switched: true },
        { outlet: 'b/4', switched: true },
      ],
      verdict: { state },
    }) as Parameters<typeof actionsFor>[0]
  it('begins with the gentle way, but what hangs does not listen', () => {
    expect(actionsFor(d('steady')).map((a) => a.kind)).toEqual(['shutdown', 'reset', 'cycle', 'nmi', 'off'])
    expect(actionsFor(d('hung'))[0]?.kind).toBe('reset')
    expect(actionsFor(d('parked')).map((a) => a.kind)).toEqual(['on'])
  })
  it('is named after what is switched', () => {
    expect(actionName('cycle', 'chassis', [])).toBe('Cycle the chassis')
    expect(actionName('cycle', 'outlet', ['a/4', 'b/4'])).toBe('Cycle both outlets')
    expect(actionName('shutdown', 'command', [])).toBe('Shut down')
  })
})
