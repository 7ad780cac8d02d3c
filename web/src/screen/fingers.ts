import type { Point } from './stage'

/** What fingers do at a screen: a tap clicks, one that moves drags, one that rests clicks with the other
 *  button, and two zoom and move what is seen. */
export type Feel = {
  point: (at: Point, buttons: number) => void
  /** The finger's place, the factor, and by how much what is seen moves. */
  pinch: (at: Point, factor: number, by: Point) => void
}

const left = 1
const right = 4
const movesFrom = 8 // pixels
const restsFor = 600 // ms

export class Fingers {
  private on = new Map<number, Point>()
  private began?: Point
  private state: 'none' | 'down' | 'drags' | 'done' = 'none'
  private rests?: ReturnType<typeof setTimeout>

  constructor(private readonly feel: Feel) {}

  down(id: number, at: Point) {
    this.on.set(id, at)
    if (this.on.size > 1) {
      this.stop(at)
      return
    }
    this.began = at
    this.state = 'down'
    this.rests = setTimeout(() => {
      this.state = 'done'
      this.feel.point(at, right)
      this.feel.point(at, 0)
    }, restsFor)
  }

  move(id: number, at: Point) {
    const was = this.on.get(id)
    if (!was) return
    if (this.on.size === 2) this.pinch(id, was, at)
    this.on.set(id, at)
    if (this.state === 'down' && this.began && far(this.began, at) > movesFrom) {
      clearTimeout(this.rests)
      this.state = 'drags'
      this.feel.point(this.began, left)
    }
    if (this.state === 'drags') this.feel.point(at, left)
  }

  up(id: number, at: Point) {
    this.on.delete(id)
    clearTimeout(this.rests)
    if (this.state === 'down') this.feel.point(at, left)
    if (this.state === 'down' || this.state === 'drags') this.feel.point(at, 0)
    if (this.state !== 'done' || this.on.size === 0) this.state = 'none'
  }

  /** More of them have come: nothing is pressed any more, until all have gone. */
  private stop(at: Point) {
    clearTimeout(this.rests)
    if (this.state === 'drags') this.feel.point(at, 0)
    this.state = 'done'
  }

  private pinch(id: number, was: Point, at: Point) {
    for (const [other, there] of this.on) {
      if (other === id) continue
      const factor = far(was, there) > 0 ? far(at, there) / far(was, there) : 1
      this.feel.pinch(middle(at, there), factor, { x: (at.x - was.x) / 2, y: (at.y - was.y) / 2 })
    }
  }
}

const far = (a: Point, b: Point) => Math.hypot(a.x - b.x, a.y - b.y)
const middle = (a: Point, b: Point) => ({ x: (a.x + b.x) / 2, y: (a.y + b.y) / 2 })
