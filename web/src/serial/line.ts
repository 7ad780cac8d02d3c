import { Place, type PlaceHears, type PlaceMessage, type PlaceState } from '../parts/place'

export type LineState = PlaceState & {
  line?: string
  port?: string
  alone?: { who: string; since: string; until: string; sees: boolean }
}

export type LineWish = { do: string; minutes?: number; columns?: number; rows?: number }

const placeBytes = 8

/** One person at a serial line: it goes on behind what was heard last. */
export class Line extends Place<LineState, LineWish> {
  private after = -1

  constructor(
    device: string,
    hears: PlaceHears<LineState>,
    private readonly said: (bytes: Uint8Array) => void,
  ) {
    super(device, 'serial', hears)
    this.open()
  }

  protected query(q: URLSearchParams) {
    q.set('after', String(this.after))
  }

  protected bytes(data: ArrayBuffer) {
    this.after = Number(new DataView(data).getBigUint64(0))
    this.said(new Uint8Array(data, placeBytes))
  }

  protected message(m: PlaceMessage & { missed?: number }) {
    if (m.missed) this.hears.notice(`${m.missed} bytes in between are gone, or were not for you`)
  }

  /** Sends keys; false when there is no connection. */
  type(text: string): boolean {
    return this.send(new TextEncoder().encode(text))
  }
}
