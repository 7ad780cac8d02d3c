import { type ReactNode, type RefObject, useCallback, useLayoutEffect, useRef, useState } from 'react'
import type { Seen } from './input'
import { type Lie, laid, type Part, type Point, type Size, zoomMost } from './stage'

/** How a picture lies, how fingers change that, and what has it lie so. */
export function useStage(picture: Size, part?: Part) {
  const box = useRef<HTMLDivElement>(null)
  const [room, setRoom] = useState<Size>({ width: 0, height: 0 })
  const [lie, setLie] = useState<Lie>({ fits: true, zoom: 1, turn: 0 })
  const pinched = useRef<{ at: Point; part: Point }>(undefined)

  useLayoutEffect(() => {
    const on = box.current
    if (!on) return
    const watch = new ResizeObserver(([entry]) => {
      if (entry) setRoom({ width: entry.contentRect.width, height: entry.contentRect.height })
    })
    watch.observe(on)
    return () => watch.disconnect()
  }, [])

  const shown = laid(picture, room, lie, part)
  const { width, height } = shown.takes

  // What was between the fingers stays there.
  useLayoutEffect(() => {
    const on = box.current
    const p = pinched.current
    if (!on || !p) return
    pinched.current = undefined
    const r = on.getBoundingClientRect()
    on.scrollLeft = p.part.x * width - (p.at.x - r.left)
    on.scrollTop = p.part.y * height - (p.at.y - r.top)
  }, [width, height])

  const pinch = useCallback(
    (at: Point, factor: number, by: Point) => {
      const on = box.current
      if (!on) return
      on.scrollLeft -= by.x
      on.scrollTop -= by.y
      const r = on.getBoundingClientRect()
      pinched.current = {
        at,
        part: { x: (on.scrollLeft + at.x - r.left) / width, y: (on.scrollTop + at.y - r.top) / height },
      }
      setLie((l) => ({ ...l, zoom: Math.min(zoomMost, Math.max(1, l.zoom * factor)) }))
    },
    [width, height],
  )
  const seen = useRef<Seen>({ turn: 0, scale: 1, pinch })
  seen.current = { turn: lie.turn, scale: shown.scale, pinch }
  return { box, lie, setLie, shown, seen }
}

/** Where the picture lies; what is over is over all of it. */
export function Stage({
  box,
  takes,
  over,
  children,
}: {
  box: RefObject<HTMLDivElement | null>
  takes: Size
  over: ReactNode
  children: ReactNode
}) {
  return (
    <div className="relative flex min-h-0 flex-1 overflow-hidden rounded-lg border border-rule bg-[#11151c] p-1.5">
      <div ref={box} className="flex min-h-0 min-w-0 flex-1 overflow-auto">
        <div style={takes} className="relative m-auto shrink-0 overflow-hidden">
          {children}
        </div>
      </div>
      {over}
    </div>
  )
}
