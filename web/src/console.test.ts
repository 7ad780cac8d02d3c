import { describe, expect, it } from 'vitest'
import type { Board, DeviceSummary, Draw, Interlock, Site, VerdictState } from './api/client'
import { withChanges, withPoint } from './api/stream'
import { bySite, moved, sortedKeys } from './board/order'
import { cutStrand } from './parts/CutLines'
import { blockedBy } from './parts/consent'
import { offset } from './parts/GroupPanel'
import { columns } from './parts/gaps'
import { findTargets } from './parts/Jump'
import { coverage, meant } from './parts/picking'
import { actionName, actionsFor, capital, counted, diagnosis } from './parts/say'
import { age, clock, instant, watts } from './parts/time'

const now = Date.parse('2026-03-01T14:06:10Z')

function device(key: string, state: VerdictState, more: Partial<DeviceSummary> = {}): DeviceSummary {
  return {
    key,
    site: 'skarvoe',
    role: 'router',
    words: 'router',
    guarded: false,
    feeds: [{ outlet: 'skarvoe-pdu/3', switched: true, on: true }],
    acts: [
      { kind: 'on', means: 'outlet' },
      { kind: 'cycle', means: 'outlet' },
      { kind: 'off', means: 'outlet' },
    ],
    verdict: { state, since: '2026-03-01T14:02:10Z', reasons: [] },
    lines: { power: [], reach: [] },
    waysIn: [],
    recent: [],
    ...more,
  }
}

const site = (key: string): Site => ({ key, name: key, kind: 'pier', zone: 'UTC', devices: 1 })

describe('the board', () => {
  const devices = [
    device('a', 'steady', { site: 'quay' }),
    device('b', 'steady'),
    device('c', 'cut-off'),
    device('d', 'hung'),
  ]
  const sites = [site('quay'), site('skarvoe')]

  it('puts what is wrong first, site by site', () => {
    expect(bySite(sites, devices).map((g) => g.site.key)).toEqual(['skarvoe', 'quay'])
    expect(sortedKeys(sites, devices)).toEqual(['d', 'c', 'b', 'a'])
  })
  it('knows how many rows would move', () => {
    expect(moved(['a', 'b', 'c'], ['a', 'b', 'c'])).toBe(0)
    expect(moved(['a', 'b', 'c'], ['c', 'b', 'a'])).toBe(2)
  })
  it('takes in changes one by one', () => {
    const board: Board = { estate: 'x', event: '1', sites, devices, service: [], trouble: [] }
    const verdict = device('d', 'steady').verdict
    const after = withChanges(board, new Map([['d', { key: 'd', verdict, w: 7, place: null }]]))
    expect(after.devices.map((d) => d.verdict.state)).toEqual(['steady', 'steady', 'cut-off', 'steady'])
    expect(after.devices[0]).toBe(devices[0])
    expect(after.devices[3]).toEqual({ ...devices[3], verdict, w: 7 })
    const gone = withChanges(after, new Map([['d', { key: 'd', w: null }]]))
    expect(gone.devices[3]).not.toHaveProperty('w')
  })
})

describe('what hangs on a device', () => {
  it('is counted once', () => {
    expect(counted(['switch', 'kiosk', 'switch agent', 'kiosk cli'])).toBe('2 devices')
    expect(counted(['kiosk', 'pdu card'])).toBe('1 device, 1 way in')
    expect(counted(['pdu card', 'strip web'])).toBe('2 ways in')
    expect(counted([])).toBeUndefined()
  })
})

describe('the lines of a preview', () => {
  const hop = (label: string, device?: string) => ({
    label,
    state: 'sound' as const,
    text: '',
    ...(device && { device }),
  })
  it('break where something goes dark, and hang slack below', () => {
    const cut = cutStrand([hop('ops', 'ops'), hop('router', 'router'), hop('switch', 'switch')], {
      kind: 'cycle',
      loses: ['router'],
      outlets: [],
    })
    expect(cut.map((h) => h.state)).toEqual(['sound', 'broken', 'slack'])
    const place = { outlet: 'pdu/3', place: 'outlet 3 of pdu', name: '', known: true, fresh: true }
    const told = cutStrand([hop('router', 'router')], { kind: 'reset', loses: ['router'], outlets: [] })
    expect(told.map((h) => h.text)).toEqual(['starts anew'])
    const power = cutStrand([hop('pdu', 'pdu'), hop('outlet 3'), hop('router', 'router')], {
      kind: 'cycle',
      loses: ['router'],
      outlets: [place],
    })
    const other = cutStrand([hop('pdu-b', 'pdu-b'), hop('outlet 3'), hop('router', 'router')], {
      kind: 'cycle',
      loses: [],
      outlets: [place],
    })
    expect(
      other.map((h) => h.state),
      'the same number of another PDU',
    ).toEqual(['sound', 'sound', 'sound'])
    expect(power.map((h) => [h.state, h.text])).toEqual([
      ['sound', ''],
      ['broken', 'switched off'],
      ['slack', 'without'],
    ])
  })
})

describe('several devices', () => {
  const all = [device('a', 'steady'), device('b', 'steady', { acts: [] }), device('c', 'steady', { site: 'quay' })]
  it('are offered what some of them can, with how many', () => {
    expect(coverage(all.slice(0, 2)).map((x) => [x.kind, x.can.length])).toEqual([
      ['on', 1],
      ['cycle', 1],
      ['off', 1],
    ])
    expect(coverage([])).toEqual([])
  })
  it('are meant by their site when it is all of it', () => {
    expect(meant('off', ['a', 'b'], all.slice(0, 2), all)).toBe('?many=off&site=skarvoe')
    expect(meant('off', ['a'], all.slice(0, 1), all)).toBe('?many=off&on=a')
    expect(meant('off', ['a', 'c'], [...all.slice(0, 1), ...all.slice(2)], all)).toBe('?many=off&on=a&on=c')
  })
  it('begin at times that are counted from the first', () => {
    expect(offset(0)).toBe('+0:00')
    expect(offset(85.4)).toBe('+1:25')
  })
})

describe('acting', () => {
  it('offers what makes sense', () => {
    const kinds = (...of: Parameters<typeof device>) => actionsFor(device(...of)).map((a) => a.kind)
    expect(kinds('a', 'hung')).toEqual(['cycle', 'off'])
    expect(kinds('a', 'parked', { feeds: [{ outlet: 'p/1', switched: true, on: false }] })).toEqual(['on'])
    expect(kinds('a', 'hung', { acts: [] })).toEqual([])
    expect(kinds('a', 'hung', { acts: [{ kind: 'reset', means: 'command' }] })).toEqual([])
    expect(kinds('a', 'steady', { acts: [{ kind: 'reset', means: 'command' }] })).toEqual(['reset'])
    expect(actionName('off', 'outlet', ['p/3', 'q/4'])).toBe('Switch off outlets 3 and 4')
  })
  it('says what is still missing', () => {
    const path: Interlock = { name: 'own-path', reason: 'r', lift: 'reason' }
    expect(blockedBy([], [], '', [], '')).toBeUndefined()
    expect(blockedBy([], [], '', ['x'], 'y')).toMatch(/name/)
    expect(blockedBy([], [], '', ['x'], ' x ')).toBeUndefined()
    expect(blockedBy([path], [], 'because', [], '')).toMatch(/interlock/)
    expect(blockedBy([path], ['own-path'], ' ', [], '')).toMatch(/why/)
    expect(blockedBy([path], ['own-path'], 'because', [], '')).toBeUndefined()
  })
  it('finds devices, and actions on them', () => {
    const all = [device('skarvoe-router', 'hung'), device('skarvoe-kiosk', 'steady')]
    expect(findTargets(all, 'kio').map((t) => t.id)).toEqual(['skarvoe-kiosk'])
    expect(findTargets(all, 'cycle router').map((t) => t.id)[0]).toBe('skarvoe-router cycle')
    expect(findTargets(all, 'hung').map((t) => t.id)).toEqual(['skarvoe-router'])
  })
})

describe('words and numbers', () => {
  it('says why in one sentence', () => {
    const v = {
      state: 'hung' as const,
      since: '2026-03-01T14:02:10Z',
      reasons: [
        { stance: 'for' as const, text: 'draws 11.2 W on skarvoe-pdu outlet 3' },
        {
          stance: 'for' as const,
          text: 'has not answered 3 of 3 probes (ICMP)',
          at: '2026-03-01T14:02:10Z',
          since: true,
        },
        { stance: 'note' as const, text: 'not this' },
      ],
    }
    expect(diagnosis(v, 'UTC', now)).toBe(
      'Draws 11.2 W on skarvoe-pdu outlet 3; has not answered 3 of 3 probes (ICMP) since 14:02:10.',
    )
    expect(capital('skarvoe-bridge before it answers')).toBe('skarvoe-bridge before it answers')
  })
  it('writes times in the zone of the site', () => {
    expect(clock('2026-03-01T14:02:10Z', 'Asia/Tokyo', now)).toBe('23:02:10')
    expect(clock('2026-02-27T14:02:10Z', 'UTC', now)).toBe('27 Feb 14:02')
    expect(instant('2026-03-28T14:30', 'Atlantic/Faroe')).toBe('2026-03-28T14:30:00.000Z')
    expect(instant('2026-03-29T14:30', 'Atlantic/Faroe'), 'in summer time').toBe('2026-03-29T13:30:00.000Z')
    expect(instant('2026-01-01T08:00', 'Asia/Tokyo')).toBe('2025-12-31T23:00:00.000Z')
    expect([age(5_000), age(240_000), age(3 * 3_600_000), age(24 * 86_400_000)]).toEqual([
      '5 s',
      '4 min',
      '3 h',
      '24 days',
    ])
  })
  it('writes power as people read it', () => {
    expect([watts(11.24), watts(148.2), watts(2310), watts(undefined)]).toEqual(['11.2 W', '148 W', '2.31 kW', ''])
  })
  it('draws a gap as a gap, and goes on live', () => {
    expect(
      columns({ at: [0, 60_000, 900_000], min: [1, 1, 1], mean: [1, 2, 3], max: [4, 4, 4], stretchSeconds: 60 }),
    ).toEqual([
      [0, 60, 61, 900],
      [4, 4, null, 4],
      [1, 1, null, 1],
      [1, 2, null, 3],
    ])
    const live = columns({
      at: [0, 60_000, 900_000],
      min: [1, 1, 1],
      mean: [1, 2, 3],
      max: [4, 4, 4],
      stretchSeconds: 5,
    })
    expect(live[0]).toEqual([0, 60, 61, 900])
    const draw: Draw = { from: '', to: '', at: [1], w: [5], min: [5], max: [5], stretchSeconds: 60 }
    expect(withPoint(draw, 6, 2)).toMatchObject({ at: [1, 2], w: [5, 6], now: 6 })
    expect(withPoint(draw, undefined, 2)).toBe(draw)
  })
})
