// Frames: parts of a picture as tiles, deflated. docs/api.md says how they are written; the tiles
// are those of RFC 6143, section 7.7.6.

export type Frame = { width: number; height: number; parts: Part[] }
export type Part = { x: number; y: number; width: number; height: number } & (
  | { pixels: Uint8ClampedArray<ArrayBuffer> }
  | { photo: ImageBitmap }
)

const tile = 64
const head = 7
const rectBytes = 8
const opaque = 0xff000000
const asPhoto = 2

async function inflate(bytes: Uint8Array<ArrayBuffer>): Promise<Uint8Array> {
  const stream = new Blob([bytes]).stream().pipeThrough(new DecompressionStream('deflate-raw'))
  return new Uint8Array(await new Response(stream).arrayBuffer())
}

export async function readFrame(bytes: Uint8Array<ArrayBuffer>): Promise<Frame> {
  const v = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength)
  const n = v.getUint16(5)
  if (v.getUint8(4) === asPhoto) {
    const photo = await createImageBitmap(new Blob([bytes.subarray(head + rectBytes)], { type: 'image/jpeg' }))
    const part = { x: v.getUint16(head), y: v.getUint16(head + 2), width: photo.width, height: photo.height, photo }
    return { width: v.getUint16(0), height: v.getUint16(2), parts: [part] }
  }
  const tiles = new Tiles(await inflate(bytes.subarray(head + n * rectBytes)), v.getUint8(4) === 1)
  const parts: Part[] = []
  for (let i = 0; i < n; i++) {
    const at = head + i * rectBytes
    const [x, y, width, height] = [v.getUint16(at), v.getUint16(at + 2), v.getUint16(at + 4), v.getUint16(at + 6)]
    const pixels = new Uint8ClampedArray(width * height * 4)
    tiles.draw(new Uint32Array(pixels.buffer), width, height)
    parts.push({ x, y, width, height, pixels })
  }
  return { width: v.getUint16(0), height: v.getUint16(2), parts }
}

/** A colour as the bytes red, green, blue, opaque, on machines whose low byte is the first. */
const colour = (r: number, g: number, b: number) => (opaque | (b << 16) | (g << 8) | r) >>> 0

/** 256 colours: three bits of red, three of green, two of blue. */
const few = Uint32Array.from({ length: 256 }, (_, c) =>
  colour(Math.round(((c >> 5) * 255) / 7), Math.round((((c >> 2) & 7) * 255) / 7), (c & 3) * 85),
)

class Tiles {
  private at = 0

  constructor(
    private readonly from: Uint8Array,
    private readonly fewColours: boolean,
  ) {}

  draw(out: Uint32Array, width: number, height: number) {
    for (let y = 0; y < height; y += tile) {
      for (let x = 0; x < width; x += tile) {
        this.tile(out, y * width + x, width, Math.min(tile, width - x), Math.min(tile, height - y))
      }
    }
  }

  private byte() {
    return this.from[this.at++] ?? 0
  }

  private pixel() {
    return this.fewColours ? (few[this.byte()] ?? opaque) : colour(this.byte(), this.byte(), this.byte())
  }

  private palette(n: number) {
    return Uint32Array.from({ length: n }, () => this.pixel())
  }

  private tile(out: Uint32Array, start: number, stride: number, w: number, h: number) {
    const kind = this.byte()
    if (kind === 0) {
      for (let y = 0; y < h; y++) for (let x = 0; x < w; x++) out[start + y * stride + x] = this.pixel()
    } else if (kind === 1) {
      const c = this.pixel()
      for (let y = 0; y < h; y++) out.fill(c, start + y * stride, start + y * stride + w)
    } else if (kind <= 16) {
      this.packed(out, start, stride, w, h, this.palette(kind))
    } else {
      this.runs(out, start, stride, w, h, kind === 128 ? undefined : this.palette(kind - 128))
    }
  }

  private packed(out: Uint32Array, start: number, stride: number, w: number, h: number, palette: Uint32Array) {
    const bits = palette.length <= 2 ? 1 : palette.length <= 4 ? 2 : 4
    for (let y = 0; y < h; y++) {
      for (let x = 0, have = 0, left = 0; x < w; x++) {
        if (left === 0) {
          have = this.byte()
          left = 8
        }
        left -= bits
        out[start + y * stride + x] = palette[(have >> left) & ((1 << bits) - 1)] ?? opaque
      }
    }
  }

  private runs(out: Uint32Array, start: number, stride: number, w: number, h: number, palette?: Uint32Array) {
    for (let done = 0; done < w * h; ) {
      let length = 1
      let c: number
      if (palette) {
        const i = this.byte()
        c = palette[i & 127] ?? opaque
        if (i >= 128) length += this.length()
      } else {
        c = this.pixel()
        length += this.length()
      }
      for (; length > 0 && done < w * h; length--, done++) {
        out[start + Math.floor(done / w) * stride + (done % w)] = c
      }
    }
  }

  private length() {
    let n = 0
    for (;;) {
      const b = this.byte()
      n += b
      if (b !== 255) return n
    }
  }
}
