import { type QueryClient, useQueryClient } from '@tanstack/react-query'
import { useEffect, useRef, useSyncExternalStore } from 'react'
import type { Board, DeviceSummary, Draw, StreamEvent } from './client'
import { boardQuery } from './hooks'
import { Refresher } from './refresh'

/** How the stream of changes is doing, for the corner of the page. */
export type Link = { up: boolean; since: number }

let link: Link = { up: false, since: Date.now() }
const listeners = new Set<() => void>()

function setLink(up: boolean) {
  if (link.up === up) return
  link = { up, since: Date.now() }
  for (const l of listeners) l()
}

export const useLink = () =>
  useSyncExternalStore(
    (l) => {
      listeners.add(l)
      return () => listeners.delete(l)
    },
    () => link,
  )

/** How long a page that nobody sees keeps its connection: a browser has only a few for each server. */
const hiddenFor = 20_000

/** What a page looks at: every device, one, or none. What nobody looks at is not sent. */
export type Looking = 'all' | 'none' | { device: string }

/** Keeps what is loaded up to date for as long as somebody is logged in. */
export function useStream(looking: Looking) {
  const client = useQueryClient()
  const stream = useRef<Stream>(undefined)
  const about = JSON.stringify(looking)
  useEffect(() => {
    const s = new Stream(client)
    stream.current = s
    let closing: ReturnType<typeof setTimeout> | undefined
    const seen = () => {
      clearTimeout(closing)
      if (document.visibilityState === 'hidden') closing = setTimeout(() => s.close(), hiddenFor)
      else void s.open()
    }
    // A page that is kept for the back button must not keep a connection as well.
    const hide = () => s.close()
    document.addEventListener('visibilitychange', seen)
    addEventListener('pagehide', hide)
    addEventListener('pageshow', seen)
    return () => {
      clearTimeout(closing)
      document.removeEventListener('visibilitychange', seen)
      removeEventListener('pagehide', hide)
      removeEventListener('pageshow', seen)
      s.close()
    }
  }, [client])
  useEffect(() => {
    stream.current?.look(JSON.parse(about) as Looking)
    void stream.current?.open()
  }, [about])
}

type Change = { key: string } & { [K in Exclude<keyof DeviceSummary, 'key'>]?: DeviceSummary[K] | null }
type Data<E extends StreamEvent['event']> = Extract<StreamEvent, { event: E }>['data']

/** How long changes of devices are gathered before they are drawn. */
const gatherFor = 250
const retryAfter = 2000
const closed = 2 // of an EventSource

export class Stream {
  private source: EventSource | undefined
  private wanted = false
  private looking: Looking = 'none'
  private last: string | undefined // the id of the newest event that was seen
  private changes = new Map<string, Change>()
  private gathering: ReturnType<typeof setTimeout> | undefined
  private readonly refresh: Refresher

  constructor(
    private readonly client: QueryClient,
    private readonly connectTo = (url: string) => new EventSource(url),
  ) {
    this.refresh = new Refresher(client)
  }

  /** Says what is looked at from now on. */
  look(at: Looking) {
    if (JSON.stringify(at) === JSON.stringify(this.looking)) return
    const wider = at === 'all' || (typeof at === 'object' && this.looking !== 'all')
    this.looking = at
    if (wider) this.last = undefined // what was not sent is not known
    if (!this.wanted) return
    this.drop()
    void this.open()
  }

  async open() {
    if (this.wanted) return
    this.wanted = true
    if (this.looking === 'all') {
      // From the board on: what happened before it is in it.
      while (this.wanted && this.looking === 'all' && !this.last) {
        const board = await this.client.fetchQuery({ ...boardQuery, staleTime: 0 }).catch(() => undefined)
        this.last = board?.event
        if (!board) await new Promise((r) => setTimeout(r, retryAfter))
      }
    }
    if (this.wanted && !this.source) this.connect()
  }

  close() {
    this.drop()
    setLink(false)
  }

  private drop() {
    this.wanted = false
    this.source?.close()
    this.source = undefined
    clearTimeout(this.gathering)
    this.gathering = undefined
    this.changes.clear()
  }

  private connect() {
    const at = new URLSearchParams()
    const resumes = this.last !== undefined
    if (this.last) at.set('after', this.last)
    if (this.looking !== 'all') at.set('devices', this.looking === 'none' ? 'none' : this.looking.device)
    const source = this.connectTo(`/api/v1/events?${at}`)
    this.source = source
    source.onopen = () => {
      setLink(true)
      // Between what was loaded and the stream something may have happened.
      if (!resumes && typeof this.looking === 'object') this.refresh.ask(['device', this.looking.device], true)
    }
    source.onerror = () => {
      setLink(false)
      if (source.readyState !== closed) return // it tries again by itself
      this.close()
      void this.client.invalidateQueries({ queryKey: ['session'] }) // it may be that which has ended
      setTimeout(() => void this.open(), retryAfter)
    }
    this.listen(source)
  }

  private listen(source: EventSource) {
    const { client, refresh } = this
    const on = <E extends StreamEvent['event']>(event: E, f: (data: Data<E>) => void) =>
      source.addEventListener(event, (e) => {
        const m = e as MessageEvent<string>
        if (m.lastEventId) this.last = m.lastEventId
        f(JSON.parse(m.data) as Data<E>)
      })
    const onBoard = (change: Partial<Board>) => client.setQueryData<Board>(['board'], (b) => b && { ...b, ...change })
    on('device', (d) => this.gather(d as Change))
    on('trouble', (trouble) => onBoard({ trouble }))
    on('service', (service) => onBoard({ service }))
    on('operation', (o) => {
      client.setQueryData(['operation', o.id], o)
      // What was seen afterwards comes only when it is asked for.
      if (o.state !== 'running') refresh.ask(['operation', o.id])
      refresh.ask(['device', o.device], true)
      refresh.ask(['wiring']) // a check runs as operations, one after the other
    })
    on('group', (g) => {
      client.setQueryData(['group', g.id], g)
      refresh.ask(['groups'])
    })
    on('journal', () => refresh.ask(['journal']))
    on('incident', (i) => {
      refresh.ask(['incidents'])
      refresh.ask(['device', i.device], true)
    })
    on('account', () => {
      void client.invalidateQueries({ queryKey: ['session'] })
      refresh.ask(['accounts'])
    })
    const everything = () => void client.invalidateQueries({}, { cancelRefetch: false })
    on('estate', everything)
    on('reset', everything)
  }

  /** Changes of devices are drawn together: a burst is one picture. */
  private gather(d: Change) {
    this.changes.set(d.key, { ...this.changes.get(d.key), ...d })
    this.gathering ??= setTimeout(() => this.draw(), gatherFor)
  }

  private draw() {
    const { client, refresh, changes } = this
    this.gathering = undefined
    this.changes = new Map()
    client.setQueryData<Board>(['board'], (b) => b && withChanges(b, changes))
    const now = Date.now()
    for (const d of changes.values()) {
      for (const [key] of client.getQueriesData<Draw>({ queryKey: ['draw', d.key] })) {
        client.setQueryData<Draw>(key, (old) => old && withPoint(old, d.w ?? undefined, now))
      }
      for (const key of [
        ['device', d.key],
        ['device', d.key, 'supply'],
      ]) {
        if (client.getQueryState(key)) refresh.ask(key, true)
      }
    }
    if (client.getQueryState(['power'])) refresh.ask(['power'])
  }
}

/** A board with what has changed; a member that is null is gone. */
export function withChanges(b: Board, changes: ReadonlyMap<string, Change>): Board {
  return {
    ...b,
    devices: b.devices.map((d) => {
      const change = changes.get(d.key)
      if (!change) return d
      const next = Object.entries({ ...d, ...change }).filter(([, value]) => value !== null)
      return Object.fromEntries(next) as DeviceSummary
    }),
  }
}

export function withPoint(draw: Draw, w: number | undefined, now: number): Draw {
  if (w === undefined) return draw
  return {
    ...draw,
    at: [...draw.at, now],
    w: [...draw.w, w],
    min: [...draw.min, w],
    max: [...draw.max, w],
    now: w,
    to: new Date(now).toISOString(),
  }
}
