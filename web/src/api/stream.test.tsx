// @vitest-environment jsdom
import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { act, cleanup, render, screen } from '@testing-library/react'
import { MemoryRouter, Route, Routes } from 'react-router'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { Layout } from '../parts/Layout'
import type { Board, DeviceSummary } from './client'
import { useBoard, useDevice } from './hooks'

// Before anything is imported: whoever asks the service does so with these.
vi.hoisted(() => {
  const Plain = globalThis.Request
  globalThis.Request = class extends Plain {
    constructor(to: RequestInfo | URL, init?: RequestInit) {
      super(typeof to === 'string' ? new URL(to, 'http://plumb.example') : to, init)
    }
  }
  globalThis.fetch = ((request: Request) => answer(request)) as typeof fetch
})

/** A stand-in for the browser's connection to the stream. */
class Source extends EventTarget {
  static all: Source[] = []
  readyState = 1
  onopen?: () => void
  onerror?: () => void
  constructor(readonly url: string) {
    super()
    Source.all.push(this)
    setTimeout(() => this.onopen?.(), 10)
  }
  close() {
    this.readyState = 2
  }
  send(event: string, data: unknown, id = 'e-2') {
    this.dispatchEvent(new MessageEvent(event, { data: JSON.stringify(data), lastEventId: id }))
  }
  static get newest() {
    return Source.all[Source.all.length - 1] as Source
  }
}

const row = (key: string): DeviceSummary => ({
  key,
  site: 'pier',
  role: 'router',
  words: 'router',
  guarded: false,
  feeds: [],
  acts: [],
  verdict: { state: 'steady', since: '2026-11-28T00:00:00Z', reasons: [] },
  lines: { power: [], reach: [] },
  waysIn: [],
  recent: [],
})

const board: Board = { estate: 'x', event: 'e-1', sites: [], devices: [row('a'), row('b')], service: [], trouble: [] }

let asked: { path: string; ended: 'done' | 'aborted' | undefined }[] = []
let latency = 0

/** Answers after the latency of the line, unless it is broken off before. */
function answer(request: Request): Promise<Response> {
  const path = new URL(request.url).pathname.replace('/api/v1', '')
  const one: (typeof asked)[number] = { path, ended: undefined }
  asked.push(one)
  const body =
    path === '/board' ? board : path === '/session' ? { account: 'k', role: 'keeper' } : { summary: row('a') }
  return new Promise((resolve, reject) => {
    const timer = setTimeout(() => {
      one.ended = 'done'
      resolve(new Response(JSON.stringify(body), { headers: { 'Content-Type': 'application/json' } }))
    }, latency)
    request.signal.addEventListener('abort', () => {
      clearTimeout(timer)
      one.ended = 'aborted'
      reject(new DOMException('aborted', 'AbortError'))
    })
  })
}

const count = (path: string, ended: 'done' | 'aborted') =>
  asked.filter((a) => a.path === path && a.ended === ended).length

function DeviceProbe() {
  const device = useDevice('a')
  return <p>device {device.data ? 'there' : 'not yet'}</p>
}

function BoardProbe() {
  const all = useBoard()
  return <p>{all.data?.devices.map((d) => `${d.key}:${d.verdict.state}:${d.w ?? '-'}`).join(' ')}</p>
}

let client: QueryClient

const page = (at: string) =>
  render(
    <QueryClientProvider client={client}>
      <MemoryRouter initialEntries={[at]}>
        <Routes>
          <Route element={<Layout />}>
            <Route path="/" element={<BoardProbe />} />
            <Route path="/devices/:key" element={<DeviceProbe />} />
          </Route>
        </Routes>
      </MemoryRouter>
    </QueryClientProvider>,
  )

const passes = (ms: number) => act(() => vi.advanceTimersByTimeAsync(ms))

beforeEach(() => {
  vi.useFakeTimers()
  vi.stubGlobal('EventSource', Source)
  client = new QueryClient({ defaultOptions: { queries: { retry: false, networkMode: 'always' } } })
  asked = []
  Source.all = []
  latency = 600
})

afterEach(() => {
  cleanup()
  vi.useRealTimers()
  vi.unstubAllGlobals()
})

describe('a device page over a slow line', () => {
  it('looks at its own device only, and is loaded without the board', async () => {
    page('/devices/a')
    await passes(5000)
    expect(Source.newest.url).toContain('devices=a')
    expect(screen.getByText('device there')).toBeDefined()
    expect(asked.map((a) => a.path)).not.toContain('/board')
  })

  it('is loaded again and again while events come in faster than it loads', async () => {
    page('/devices/a')
    await passes(3000)
    const before = count('/devices/a', 'done')
    for (let i = 0; i < 100; i++) {
      Source.newest.send('device', { key: 'a', w: i })
      await passes(200) // five a second, and each load takes three of them
    }
    expect(count('/devices/a', 'aborted')).toBe(0)
    const loads = count('/devices/a', 'done') - before
    expect(loads).toBeGreaterThan(8)
    expect(loads).toBeLessThan(16) // one behind the other, with a pause
  })

  it('is not loaded for what happens elsewhere', async () => {
    page('/devices/a')
    await passes(3000)
    const before = asked.length
    for (let i = 0; i < 20; i++) Source.newest.send('operation', { id: `o${i}`, device: 'b', state: 'running' })
    await passes(5000)
    expect(asked.length).toBe(before)
  })
})

describe('the board', () => {
  it('is loaded once, and then brought up to date by what has changed', async () => {
    page('/')
    await passes(2000)
    expect(Source.newest.url).toBe('/api/v1/events?after=e-1')
    Source.newest.send('device', { key: 'b', verdict: { state: 'hung', since: 'x', reasons: [] }, w: 5 })
    Source.newest.send('device', { key: 'b', w: 7 })
    await passes(400)
    expect(screen.getByText('a:steady:- b:hung:7')).toBeDefined()
    Source.newest.send('device', { key: 'b', w: null })
    await passes(400)
    expect(screen.getByText('a:steady:- b:hung:-')).toBeDefined()
    expect(asked.filter((a) => a.path === '/board').length).toBeLessThanOrEqual(2)
  })

  it('is loaded anew after events were missed, and the log-in is looked at when the stream is refused', async () => {
    page('/')
    await passes(2000)
    const before = count('/board', 'done')
    Source.newest.send('reset', {})
    await passes(2000)
    expect(count('/board', 'done')).toBeGreaterThan(before)
    const source = Source.newest
    source.readyState = 2
    source.onerror?.()
    await passes(5000)
    expect(Source.newest).not.toBe(source)
  })
})
