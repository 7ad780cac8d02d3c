// One person's connection to where several may sit: a serial line, or a screen. It comes back by
// itself, to the same seat. docs/api.md says what goes over it.

export type PlaceSeat = { id: string; who: string; types: boolean; away?: boolean; since: string }

export type PlaceState = {
  seat?: string
  up?: boolean
  seats?: PlaceSeat[]
  asked?: { seat: string; who: string; seconds: number }
  mayTake?: boolean
}

export type PlaceMessage = PlaceState & { notice?: string[]; error?: string }

export type PlaceHears<S extends PlaceState> = {
  state: (state: S) => void
  connected: (is: boolean) => void
  notice: (text: string) => void
  ended: (why: string) => void
}

const comeBackFirst = 500
const comeBackMost = 5000
/** WebSocket close codes behind which coming back makes no sense. */
const overCodes = [1001, 1008]

export abstract class Place<S extends PlaceState, W extends { do: string }> {
  private ws?: WebSocket
  private seat: string
  private wait = comeBackFirst
  private timer?: ReturnType<typeof setTimeout>
  private over = false
  private came = false // somebody has been let in

  constructor(
    private readonly device: string,
    private readonly kind: 'serial' | 'screen',
    protected readonly hears: PlaceHears<S>,
  ) {
    this.seat = sessionStorage.getItem(this.kept()) ?? '' // this window was loaded again
  }

  /** What comes as bytes. */
  protected abstract bytes(data: ArrayBuffer): void
  /** What comes as JSON, beside who sits there. */
  protected message(_: PlaceMessage) {}
  /** What is asked for beside the seat. */
  protected query(_: URLSearchParams) {}

  private kept() {
    return `${this.kind}:${this.device}`
  }

  protected open() {
    const q = new URLSearchParams()
    if (this.seat) {
      q.set('seat', this.seat)
      this.query(q)
    }
    const at = new URL(`/api/v1/devices/${encodeURIComponent(this.device)}/${this.kind}?${q}`, location.href)
    at.protocol = at.protocol.replace('http', 'ws')
    const ws = new WebSocket(at)
    ws.binaryType = 'arraybuffer'
    this.ws = ws
    let opened = false
    ws.onopen = () => {
      opened = true
      this.came = true
      this.wait = comeBackFirst
      this.hears.connected(true)
    }
    ws.onmessage = (e: MessageEvent<ArrayBuffer | string>) => this.take(e.data)
    ws.onclose = (e) => {
      if (this.over) return
      this.hears.connected(false)
      if (!opened && !this.came && this.seat) {
        this.seat = '' // it is not there any more
        sessionStorage.removeItem(this.kept())
      } else if (overCodes.includes(e.code) || (!opened && !this.seat)) {
        this.over = true
        this.hears.ended(e.reason || `the ${this.kind === 'serial' ? 'line' : 'screen'} could not be opened`)
        return
      }
      this.timer = setTimeout(() => this.open(), this.wait)
      this.wait = Math.min(2 * this.wait, comeBackMost)
    }
  }

  private take(data: ArrayBuffer | string) {
    if (typeof data !== 'string') {
      this.bytes(data)
      return
    }
    const m = JSON.parse(data) as PlaceMessage
    if (m.seat) {
      this.seat = m.seat
      sessionStorage.setItem(this.kept(), m.seat)
      this.hears.state(m as S)
    }
    this.message(m)
    for (const n of m.notice ?? []) this.hears.notice(n)
    if (m.error) this.hears.notice(m.error)
  }

  /** Sends bytes; false when there is no connection. */
  protected send(data: Uint8Array<ArrayBuffer>): boolean {
    if (this.ws?.readyState !== WebSocket.OPEN) return false
    this.ws.send(data)
    return true
  }

  wish(w: W) {
    if (this.ws?.readyState === WebSocket.OPEN) this.ws.send(JSON.stringify(w))
  }

  leave() {
    this.over = true
    sessionStorage.removeItem(this.kept())
    clearTimeout(this.timer)
    this.wish({ do: 'leave' } as W)
    this.ws?.close()
  }
}
