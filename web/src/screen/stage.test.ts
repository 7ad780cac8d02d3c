import { afterEach, beforeEach, expect, test, vi } from 'vitest'
import { Fingers } from './fingers'
import { codes, Recorder } from './keys'
import { laid, type Point, placeIn, stepIn, type Turn, within } from './stage'

const picture = { width: 1024, height: 768 }

test('a picture fits, never larger than it is, whichever way up', () => {
  const room = { width: 512, height: 768 }
  expect(laid(picture, room, { fits: true, zoom: 1, turn: 0 }).takes).toEqual({ width: 512, height: 384 })
  expect(laid(picture, room, { fits: true, zoom: 1, turn: 1 }).takes).toEqual({ width: 512, height: 682 })
  expect(laid(picture, { width: 9000, height: 9000 }, { fits: true, zoom: 1, turn: 3 }).scale).toBe(1)
  expect(laid(picture, room, { fits: false, zoom: 2, turn: 2 }).takes).toEqual({ width: 2048, height: 1536 })
  expect(laid(picture, { width: 0, height: 0 }, { fits: true, zoom: 1, turn: 0 }).scale).toBe(1)
})

test('of several displays one is shown', () => {
  const second = { x: 1024, y: 0, width: 800, height: 600 }
  const wide = { width: 1824, height: 768 }
  const { takes, canvas } = laid(wide, { width: 400, height: 400 }, { fits: true, zoom: 1, turn: 0 }, second)
  expect(takes).toEqual({ width: 400, height: 300 })
  expect(canvas.transform).toContain('translate(-512px, 0px)')
  expect(canvas.width).toBe(912)
})

test('the pointer is where it is seen, whichever way up', () => {
  const corners: [Turn, Point][] = [
    [0, { x: 0, y: 0 }],
    [1, { x: 0, y: 767 }],
    [2, { x: 1023, y: 767 }],
    [3, { x: 1023, y: 0 }],
  ]
  for (const [turn, corner] of corners) {
    const { takes, scale } = laid(picture, { width: 600, height: 600 }, { fits: true, zoom: 1, turn })
    const shown = { left: 10, top: 20, ...takes }
    expect(placeIn(picture, shown, turn, { x: 10.1, y: 20.1 })).toEqual(corner)
    // A step to the right on the page is the same as two places there.
    const [a, b] = [200, 230].map((x) => placeIn(picture, shown, turn, { x, y: 200 })) as [Point, Point]
    const step = stepIn(turn, scale, { x: 30, y: 0 })
    expect(Math.abs(b.x - a.x - step.x)).toBeLessThanOrEqual(1)
    expect(Math.abs(b.y - a.y - step.y)).toBeLessThanOrEqual(1)
  }
  expect(within(picture, { x: -5, y: 2000 })).toEqual({ x: 0, y: 767 })
})

let did: string[]
const fingers = () =>
  new Fingers({
    point: (at, buttons) => did.push(`${at.x},${at.y}:${buttons}`),
    pinch: (at, factor, by) => did.push(`pinch ${at.x},${at.y} ${factor} by ${by.x},${by.y}`),
  })

beforeEach(() => {
  did = []
  vi.useFakeTimers()
})
afterEach(() => vi.useRealTimers())

test('a tap clicks, one that moves drags, one that rests clicks with the other button', () => {
  const f = fingers()
  f.down(1, { x: 5, y: 5 })
  f.move(1, { x: 7, y: 5 })
  f.up(1, { x: 7, y: 5 })
  expect(did).toEqual(['7,5:1', '7,5:0'])
  did = []
  f.down(2, { x: 5, y: 5 })
  f.move(2, { x: 50, y: 5 })
  f.up(2, { x: 60, y: 5 })
  expect(did).toEqual(['5,5:1', '50,5:1', '60,5:0'])
  did = []
  f.down(3, { x: 5, y: 5 })
  vi.advanceTimersByTime(1000)
  f.move(3, { x: 90, y: 5 })
  f.up(3, { x: 90, y: 5 })
  expect(did).toEqual(['5,5:4', '5,5:0'])
})

test('two fingers zoom and move, and press nothing', () => {
  const f = fingers()
  f.down(1, { x: 100, y: 100 })
  f.down(2, { x: 200, y: 100 })
  vi.advanceTimersByTime(1000)
  f.move(2, { x: 300, y: 100 })
  expect(did).toEqual(['pinch 200,100 2 by 50,0'])
  f.up(1, { x: 100, y: 100 })
  f.move(2, { x: 350, y: 100 })
  f.up(2, { x: 350, y: 100 })
  expect(did).toHaveLength(1)
  f.down(3, { x: 1, y: 1 })
  f.up(3, { x: 1, y: 1 })
  expect(did.slice(1)).toEqual(['1,1:1', '1,1:0'])
})

test('keys are written down as a sequence: what is held, with what is pressed meanwhile', () => {
  const r = new Recorder()
  const press = (...names: string[]) => {
    for (const n of names) r.key(true, { sym: 0, code: codes[n] ?? 0 })
    for (const n of names.reverse()) r.key(false, { sym: 0, code: codes[n] ?? 0 })
  }
  press('F2')
  press('ControlLeft', 'AltLeft', 'Delete')
  press('ShiftLeft', 'KeyA')
  press('Digit1')
  press('MetaLeft')
  r.press(['ctrl-w', 'down'])
  r.key(true, { sym: 0x263a, code: 0 }) // has no place
  expect(r.text()).toBe('key f2\nkey ctrl-alt-delete\nkey shift-a\nkey 1\nkey super\nkey ctrl-w\nkey down\n')
})
