import { type QueryClient, useQueryClient } from '@tanstack/react-query'
import { useEffect, useSyncExternalStore } from 'react'
import type { Board, DeviceSummary, Draw, Group, Operation, ServiceAilment, Trouble } from './client'
import { boardQuery } from './hooks'

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

/** Keeps what is loaded up to date for as long as somebody is logged in. */
export function useStream() {
  const client = useQueryClient()
  useEffect(() => {
    const stream = new Stream(client)
    void stream.open()
    let closing: ReturnType<typeof setTimeout> | undefined
    const seen = () => {
      clearTimeout(closing)
      if (document.visibilityState === 'hidden') closing = setTimeout(() => stream.close(), hiddenFor)
      else void stream.open()
    }
    // A page that is kept for the back button must not keep a connection as well.
    const hide = () => stream.close()
    document.addEventListener('visibilitychange', seen)
    addEventListener('pagehide', hide)
    addEventListener('pageshow', seen)
    return () => {
      clearTimeout(closing)
      document.removeEventListener('visibilitychange', seen)
      removeEventListener('pagehide', hide)
      removeEventListener('pageshow', seen)
      stream.close()
    }
  }, [client])
}

class Stream {
  private source: EventSource | undefined
  private wanted = false
  private last: string | undefined // the id of the newest event that was seen

  constructor(private readonly client: QueryClient) {}

  async open() {
    if (this.wanted) return
    this.wanted = true
    while (this.wanted && !this.last) {
      // From the board on: what happened before it is in it.
      const board = await this.client.fetchQuery({ ...boardQuery, staleTime: 0 }).catch(() => undefined)
      this.last = board?.event
      if (!board) await new Promise((r) => setTimeout(r, retryAfter))
    }
    if (this.wanted && this.last && !this.source) this.connect(this.last)
  }

  close() {
    this.wanted = false
    this.source?.close()
    this.source = undefined
    setLink(false)
  }

  private connect(after: string) {
    const source = new EventSource(`/api/v1/events?after=${encodeURIComponent(after)}`)
    this.source = source
    source.onopen = () => setLink(true)
    source.onerror = () => {
      setLink(false)
      if (source.readyState !== EventSource.CLOSED) return // it tries again by itself
      this.close()
      void this.client.invalidateQueries({ queryKey: ['session'] }) // it may be that which has ended
      setTimeout(() => void this.open(), retryAfter)
    }
    this.listen(source)
  }

  private listen(source: EventSource) {
    const { client } = this
    const on = <T>(kind: string, f: (data: T) => void) =>
      source.addEventListener(kind, (e) => {
        const m = e as MessageEvent<string>
        if (m.lastEventId) this.last = m.lastEventId
        f(JSON.parse(m.data))
      })
    on<DeviceSummary>('device', (d) => {
      client.setQueryData<Board>(['board'], (b) => b && withDevice(b, d))
      for (const [key] of client.getQueriesData<Draw>({ queryKey: ['draw', d.key] })) {
        client.setQueryData<Draw>(key, (old) => old && withPoint(old, d, Date.now()))
      }
      refresh(client, 'device')
      refresh(client, 'power')
    })
    on<Trouble[]>('trouble', (trouble) => client.setQueryData<Board>(['board'], (b) => b && { ...b, trouble }))
    on<ServiceAilment[]>('service', (service) => client.setQueryData<Board>(['board'], (b) => b && { ...b, service }))
    on<Operation>('operation', (o) => {
      client.setQueryData(['operation', o.id], o)
      // What was seen afterwards comes only when it is asked for.
      if (o.state !== 'running') void client.invalidateQueries({ queryKey: ['operation', o.id] })
      refresh(client, 'device')
      refresh(client, 'wiring') // a check runs as operations, one after the other
    })
    on<Group>('group', (g) => {
      client.setQueryData(['group', g.id], g)
      refresh(client, 'groups')
    })
    on('journal', () => void client.invalidateQueries({ queryKey: ['journal'] }))
    on('incident', () => refresh(client, 'incidents'))
    on('account', () => {
      void client.invalidateQueries({ queryKey: ['session'] })
      void client.invalidateQueries({ queryKey: ['accounts'] })
    })
    const everything = () => void client.invalidateQueries()
    on('estate', everything)
    on('reset', everything)
  }
}

const retryAfter = 2000

export function withDevice(b: Board, d: DeviceSummary): Board {
  return { ...b, devices: b.devices.map((x) => (x.key === d.key ? d : x)) }
}

export function withPoint(draw: Draw, d: DeviceSummary, now: number): Draw {
  if (d.w === undefined) return draw
  return {
    ...draw,
    at: [...draw.at, now],
    w: [...draw.w, d.w],
    min: [...draw.min, d.w],
    max: [...draw.max, d.w],
    now: d.w,
    to: new Date(now).toISOString(),
  }
}

// A burst of changes loads the page that is open once, not once for each.
const waiting = new Set<string>()
function refresh(client: QueryClient, what: string) {
  if (waiting.has(what)) return
  waiting.add(what)
  setTimeout(() => {
    waiting.delete(what)
    void client.invalidateQueries({ queryKey: [what] })
  }, 400)
}
