import { type KeyboardEvent, type PointerEvent, type RefObject, useEffect, useMemo, useRef, useState } from 'react'
import { type Key, keyOf } from './keys'
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

/** Keys and pointer of this window, on their way to a screen. */
export function useInput(canvas: RefObject<HTMLCanvasElement | null>, view: RefObject<View | undefined>) {
  const down = useRef(new Map<string, Key>())
  const rolled = useRef(0)
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
      const at = placeOf(on, e)
      for (; Math.abs(rolled.current) >= wheelStep; rolled.current -= Math.sign(rolled.current) * wheelStep) {
        view.current?.point(at.x, at.y, rolled.current < 0 ? wheelUp : wheelDown)
        view.current?.point(at.x, at.y, 0)
      }
    }
    on.addEventListener('wheel', wheel, { passive: false })
    return () => on.removeEventListener('wheel', wheel)
  }, [canvas, view, off.pointer])

  const on = useMemo(() => {
    const point = (e: PointerEvent<HTMLCanvasElement>) => {
      if (off.pointer || (e.pointerType === 'touch' && !points)) return
      const at = placeOf(e.currentTarget, e)
      const pressed = buttons.reduce((all, b) => all | (e.buttons & b.browser ? b.gear : 0), 0)
      view.current?.point(at.x, at.y, pressed)
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
        e.currentTarget.focus()
        if (e.pointerType !== 'touch' || points) e.currentTarget.setPointerCapture(e.pointerId)
        point(e)
      },
      onPointerMove: point,
      onPointerUp: point,
      onContextMenu: (e: { preventDefault: () => void }) => e.preventDefault(),
    }
  }, [points, off, view])
  return { on, points, setPoints, off, setOff }
}

/** Where on the picture something is, however large that is shown. */
export function placeOf(on: HTMLCanvasElement, e: { clientX: number; clientY: number }) {
  const r = on.getBoundingClientRect()
  const along = (at: number, from: number, shown: number, all: number) =>
    Math.min(all - 1, Math.max(0, Math.floor(((at - from) / shown) * all)))
  return { x: along(e.clientX, r.left, r.width, on.width), y: along(e.clientY, r.top, r.height, on.height) }
}
