// How a picture lies on the page: how large, and which way up.

export type Size = { width: number; height: number }
/** Which way up: quarter turns to the right. */
export type Turn = 0 | 1 | 2 | 3
export type Lie = { fits: boolean; zoom: number; turn: Turn }
export type Part = Point & Size
export type Point = { x: number; y: number }

export const zoomMost = 8

/** The size that a picture, or a part of it, takes on the page, and what has its canvas lie so. */
export function laid(picture: Size, room: Size, { fits, zoom, turn }: Lie, shown?: Part) {
  const lying = turn % 2 === 1
  const part = shown ?? { x: 0, y: 0, ...picture }
  const up = lying ? { width: part.height, height: part.width } : part
  const fit = fits ? Math.min(1, room.width / up.width, room.height / up.height) : 1
  const scale = (Number.isFinite(fit) && fit > 0 ? fit : 1) * zoom
  const width = Math.floor(part.width * scale)
  const height = Math.floor(part.height * scale)
  const moved = [
    '',
    `translate(${height}px, 0) rotate(90deg)`,
    `translate(${width}px, ${height}px) rotate(180deg)`,
    `translate(0, ${width}px) rotate(270deg)`,
  ][turn]
  return {
    scale,
    takes: lying ? { width: height, height: width } : { width, height },
    canvas: {
      width: shown ? picture.width * scale : width,
      height: shown ? picture.height * scale : height,
      transform: `${moved} translate(${-part.x * scale}px, ${-part.y * scale}px)`,
      transformOrigin: '0 0',
    },
  }
}

/** Where on a picture something is that is at a place of the page. */
export function placeIn(picture: Size, shown: { left: number; top: number } & Size, turn: Turn, at: Point): Point {
  const u = (at.x - shown.left) / shown.width
  const v = (at.y - shown.top) / shown.height
  const [x, y] = (
    [
      [u, v],
      [v, 1 - u],
      [1 - u, 1 - v],
      [1 - v, u],
    ] as const
  )[turn]
  return within(picture, { x: Math.floor(x * picture.width), y: Math.floor(y * picture.height) })
}

/** The nearest place that is on a picture. */
export function within(picture: Size, at: Point): Point {
  return {
    x: Math.min(picture.width - 1, Math.max(0, at.x)),
    y: Math.min(picture.height - 1, Math.max(0, at.y)),
  }
}

/** A step of the pointer on the page, as one on the picture. */
export function stepIn(turn: Turn, scale: number, step: Point): Point {
  const { x, y } = [step, { x: step.y, y: -step.x }, { x: -step.x, y: -step.y }, { x: -step.y, y: step.x }][
    turn
  ] as Point
  return { x: x / scale, y: y / scale }
}
