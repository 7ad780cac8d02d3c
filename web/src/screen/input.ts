import { type KeyboardEvent, type PointerEvent, type RefObject, useEffect, useMemo, useRef, useState } from 'react'
import { Fingers } from './fingers'
import { type Key, keyOf } from './keys'
import { type Point, placeIn, stepIn, type Turn, within } from './stage'
import type { View } from './view'

// Buttons as gear is told of them, by the bits that browsers have for them.
const buttons = [
  { browser: 1, gear: 1 },
  { browser: 4, gear: 2 },
  { browser: 2, gear: 4 },
]
const wheelUp = 8
const wheelDown = 16
const wheelStep = 100 // pixels that browsers scroll for one notch

export type Seen = {
  turn: Turn
  scale: number
  pinch: (at: Point, factor: number, by: Point) => void
}

/** Keys and pointer of this window, on their way to a screen. */
export function useInput(
  canvas: RefObject<HTMLCanvasElement | null>,
  view: RefObject<View | undefined>,
  seen: RefObject<Seen>,
) {
  const down = useRef(new Map<string, Key>())
  const rolled = useRef(0)
  const at = useRef<Point>({ x: 0, y: 0 }) // where the pointer was last, on the picture
  const [points, setPoints] = useState(true)
  const [off, setOff] = useState({ keyboard: false, pointer: false })

  // What is pressed when the window goes elsewhere would stay so.
  useEffect(() => {
    const letGo = () => {
      down.current.clear()
      view.current?.wish({ do: 'release' })
    }
    const hidden = () => document.hidden && letGo()
    window.addEventListener('blur', letGo)
    document.addEventListener('visibilitychange', hidden)
    return () => {
      window.removeEventListener('blur', letGo)
      document.removeEventListener('visibilitychange', hidden)
    }
  }, [view])

  // A page may only keep the wheel to itself when it says so beforehand.
  useEffect(() => {
    const on = canvas.current
    if (!on) return
    const wheel = (e: WheelEvent) => {
      if (off.pointer) return
      e.preventDefault()
      rolled.current += e.deltaY
      if (document.pointerLockElement !== on) at.current = placeOf(on, seen.current.turn, e)
      for (; Math.abs(rolled.current) >= wheelStep; rolled.current -= Math.sign(rolled.current) * wheelStep) {
        view.current?.point(at.current.x, at.current.y, rolled.current < 0 ? wheelUp : wheelDown)
        view.current?.point(at.current.x, at.current.y, 0)
      }
    }
    on.addEventListener('wheel', wheel, { passive: false })
    return () => on.removeEventListener('wheel', wheel)
  }, [canvas, view, seen, off.pointer])

  const fingers = useMemo(
    () =>
      new Fingers({
        point: (to, pressed) => {
          if (!canvas.current) return
          const p = placeOf(canvas.current, seen.current.turn, { clientX: to.x, clientY: to.y })
          view.current?.point(p.x, p.y, pressed)
        },
        pinch: (...how) => seen.current.pinch(...how),
      }),
    [canvas, view, seen],
  )

  const on = useMemo(() => {
    const point = (e: PointerEvent<HTMLCanvasElement>) => {
      if (off.pointer) return
      const all = e.currentTarget
      const { turn, scale } = seen.current
      if (document.pointerLockElement === all) {
        const step = stepIn(turn, scale, { x: e.movementX, y: e.movementY })
        at.current = within(all, { x: at.current.x + step.x, y: at.current.y + step.y })
      } else at.current = placeOf(all, turn, e)
      const pressed = buttons.reduce((all, b) => all | (e.buttons & b.browser ? b.gear : 0), 0)
      view.current?.point(Math.round(at.current.x), Math.round(at.current.y), pressed)
    }
    /** Whether that was a finger, which is seen to. */
    const finger = (e: PointerEvent<HTMLCanvasElement>, what: 'down' | 'move' | 'up') => {
      if (e.pointerType !== 'touch') return false
      if (points && !off.pointer) fingers[what](e.pointerId, { x: e.clientX, y: e.clientY })
      return true
    }
    return {
      onKeyDown: (e: KeyboardEvent<HTMLCanvasElement>) => {
        const k = down.current.get(e.code) ?? keyOf(e)
        if (!k || off.keyboard) return
        e.preventDefault()
        if (e.code) down.current.set(e.code, k)
        view.current?.key(true, k)
      },
      onKeyUp: (e: KeyboardEvent<HTMLCanvasElement>) => {
        const k = down.current.get(e.code) ?? keyOf(e)
        down.current.delete(e.code)
        if (!k) return
        e.preventDefault()
        view.current?.key(false, k)
      },
      onBlur: () => {
        if (down.current.size === 0) return
        down.current.clear()
        view.current?.wish({ do: 'release' })
      },
      onPointerDown: (e: PointerEvent<HTMLCanvasElement>) => {
        e.currentTarget.focus({ preventScroll: true })
        if (e.pointerType !== 'touch' || points) e.currentTarget.setPointerCapture(e.pointerId)
        if (!finger(e, 'down')) point(e)
      },
      onPointerMove: (e: PointerEvent<HTMLCanvasElement>) => finger(e, 'move') || point(e),
      onPointerUp: (e: PointerEvent<HTMLCanvasElement>) => finger(e, 'up') || point(e),
      onPointerCancel: (e: PointerEvent<HTMLCanvasElement>) => finger(e, 'up'),
      onContextMenu: (e: { preventDefault: () => void }) => e.preventDefault(),
    }
  }, [points, off, view, seen, fingers])
  return { on, points, setPoints, off, setOff }
}

/** Where on the picture something is, however it lies. */
function placeOf(on: HTMLCanvasElement, turn: Turn, e: { clientX: number; clientY: number }) {
  return placeIn(on, on.getBoundingClientRect(), turn, { x: e.clientX, y: e.clientY })
}
