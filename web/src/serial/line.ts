// One person's connection to a serial line: it comes back by itself, behind what was heard
// last. docs/api.md says what goes over it.

export type LineSeat = { id: string; who: string; types: boolean; away?: boolean; since: string }

export type LineState = {
  seat?: string
  up?: boolean
  line?: string
  port?: string
  seats?: LineSeat[]
  asked?: { seat: string; who: string; seconds: number }
  alone?: { who: string; since: string; until: string; sees: boolean }
  mayTake?: boolean
}

type LineMessage = LineState & { notice?: string[]; missed?: number; error?: string }

export type LineHears = {
  said: (bytes: Uint8Array) => void
  state: (state: LineState) => void
  connected: (is: boolean) => void
  notice: (text: string) => void
  ended: (why: string) => void
}

export type LineWish = { do: string; minutes?: number; columns?: number; rows?: number }

const comeBackFirst = 500
const comeBackMost = 5000
const placeBytes = 8
/** WebSocket close codes behind which coming back makes no sense. */
const overCodes = [1001, 1008]

export class Line {
  private ws?: WebSocket
  private seat = ''
  private after = -1
  private wait = comeBackFirst
  private timer?: ReturnType<typeof setTimeout>
  private over = false

  constructor(
    private readonly device: string,
    private readonly hears: LineHears,
  ) {
    this.seat = sessionStorage.getItem(this.kept()) ?? '' // this window was loaded again
    this.open()
  }

  private kept() {
    return `seat:${this.device}`
  }

  private open() {
    const q = new URLSearchParams()
    if (this.seat) {
      q.set('seat', this.seat)
      q.set('after', String(this.after))
    }
    const at = new URL(`/api/v1/devices/${encodeURIComponent(this.device)}/serial?${q}`, location.href)
    at.protocol = at.protocol.replace('http', 'ws')
    const ws = new WebSocket(at)
    ws.binaryType = 'arraybuffer'
    this.ws = ws
    let opened = false
    ws.onopen = () => {
      opened = true
      this.wait = comeBackFirst
      this.hears.connected(true)
    }
    ws.onmessage = (e: MessageEvent<ArrayBuffer | string>) => this.take(e.data)
    ws.onclose = (e) => {
      if (this.over) return
      this.hears.connected(false)
      if (!opened && this.after < 0 && this.seat) {
        this.seat = '' // it is not there any more
        sessionStorage.removeItem(this.kept())
      } else if (overCodes.includes(e.code) || (!opened && !this.seat)) {
        this.over = true
        this.hears.ended(e.reason || 'the line could not be opened')
        return
      }
      this.timer = setTimeout(() => this.open(), this.wait)
      this.wait = Math.min(2 * this.wait, comeBackMost)
    }
  }

  private take(data: ArrayBuffer | string) {
    if (typeof data !== 'string') {
      this.after = Number(new DataView(data).getBigUint64(0))
      this.hears.said(new Uint8Array(data, placeBytes))
      return
    }
    const m = JSON.parse(data) as LineMessage
    if (m.seat) {
      this.seat = m.seat
      sessionStorage.setItem(this.kept(), m.seat)
      this.hears.state(m)
    }
    if (m.missed) this.hears.notice(`${m.missed} bytes in between are gone, or were not for you`)
    for (const n of m.notice ?? []) this.hears.notice(n)
    if (m.error) this.hears.notice(m.error)
  }

  /** Sends keys; false when there is no connection. */
  type(text: string): boolean {
    if (this.ws?.readyState !== WebSocket.OPEN) return false
    this.ws.send(new TextEncoder().encode(text))
    return true
  }

  wish(w: LineWish) {
    if (this.ws?.readyState === WebSocket.OPEN) this.ws.send(JSON.stringify(w))
  }

  leave() {
    this.over = true
    sessionStorage.removeItem(this.kept())
    clearTimeout(this.timer)
    this.wish({ do: 'leave' })
    this.ws?.close()
  }
}
