import { Place, type PlaceHears, type PlaceMessage, type PlaceState } from '../parts/place'
import { readFrame } from './frame'
import type { Key, Recorder } from './keys'
import type { Part } from './stage'

export type ViewState = PlaceState & {
  /** The connection to it, in words. */
  screen?: string
  /** Its KVM shows another one, at which somebody is; or somebody at its KVM has chosen another. */
  waits?: boolean
  moved?: boolean
  /** It takes neither keys nor a pointer. */
  lookOnly?: boolean
  /** The parts of the picture that are displays, where there are several. */
  displays?: Part[]
  /** Its keyboard can be plugged out and in. */
  replugs?: boolean
  /** The display that the gear pretends to be to its host, those that it could be, and one that is tried. */
  edid?: Edid
  /** Next to nothing is on it. */
  bare?: boolean
  /** Until then its device is kept awake. */
  awake?: string
  /** Why there is no connection to it. */
  trouble?: string
}
export type Edid = { is: string; offers: string[]; tries?: string; until?: string }
export type ViewLink = { ms: number; rate?: number; form: string }
export type ViewWish = {
  do: string
  form?: string
  keys?: string[]
  text?: string
  layout?: string
  name?: string
  minutes?: number
}
/** How far a sequence has come. */
export type Playing = { name: string; text: string; ended: boolean; failed: boolean }

const numberBytes = 4
const drawn = 1
const key = 2
const point = 3

/** One person at a screen, which is drawn on a canvas. */
export class View extends Place<ViewState, ViewWish> {
  private drawing = Promise.resolve()
  /** Writes down what is pressed here. */
  recorder?: Recorder
  private unanswered = 0 // when a key was pressed behind which nothing has changed

  constructor(
    device: string,
    hears: PlaceHears<ViewState>,
    private readonly canvas: HTMLCanvasElement,
    private readonly sees: {
      link: (link: ViewLink) => void
      size: (width: number, height: number) => void
      playing: (playing: Playing) => void
    },
  ) {
    super(device, 'screen', hears)
    this.open()
  }

  protected bytes(data: ArrayBuffer) {
    // One behind the other: reading a frame takes longer, the more there is of it.
    this.drawing = this.drawing
      .then(() => this.draw(data))
      .catch(() => this.hears.notice('a picture could not be read'))
  }

  private async draw(data: ArrayBuffer) {
    this.unanswered = 0
    const frame = await readFrame(new Uint8Array(data, numberBytes))
    const { canvas } = this
    if (canvas.width !== frame.width || canvas.height !== frame.height) {
      canvas.width = frame.width
      canvas.height = frame.height
      this.sees.size(frame.width, frame.height)
    }
    const to = canvas.getContext('2d')
    for (const p of frame.parts) {
      if ('photo' in p) {
        to?.drawImage(p.photo, p.x, p.y)
        p.photo.close()
      } else to?.putImageData(new ImageData(p.pixels, p.width, p.height), p.x, p.y)
    }
    const said = new DataView(new ArrayBuffer(5))
    said.setUint8(0, drawn)
    said.setUint32(1, new DataView(data).getUint32(0))
    this.send(new Uint8Array(said.buffer))
  }

  protected message(m: PlaceMessage & { link?: ViewLink; playing?: Playing }) {
    if (m.link) this.sees.link(m.link)
    if (m.playing) this.sees.playing(m.playing)
  }

  wish(w: ViewWish) {
    if (w.do === 'press' && w.keys) this.recorder?.press(w.keys)
    super.wish(w)
  }

  /** For how long keys have changed nothing, in ms. */
  deafFor(now: number) {
    return this.unanswered ? now - this.unanswered : 0
  }

  key(down: boolean, k: Key) {
    this.unanswered ||= Date.now()
    this.recorder?.key(down, k)
    const said = new DataView(new ArrayBuffer(8))
    said.setUint8(0, key)
    said.setUint8(1, down ? 1 : 0)
    said.setUint32(2, k.sym)
    said.setUint16(6, k.code)
    this.send(new Uint8Array(said.buffer))
  }

  point(x: number, y: number, buttons: number) {
    const said = new DataView(new ArrayBuffer(6))
    said.setUint8(0, point)
    said.setUint16(1, x)
    said.setUint16(3, y)
    said.setUint8(5, buttons)
    this.send(new Uint8Array(said.buffer))
  }
}
