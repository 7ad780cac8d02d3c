/** A series over time: of each stretch its beginning in ms, and its least, mean and greatest value. */
export type Curve = { at: number[]; min: number[]; mean: number[]; max: number[]; stretchSeconds: number }

/** uPlot's columns: time in seconds, greatest, least, mean. */
export type Columns = [number[], (number | null)[], (number | null)[], (number | null)[]]

/** A stretch that is missing leaves a gap; one that is only a little late does not. */
const late = 1.6

/** What is read live comes every few seconds, and holds for as long as nothing else is said. */
const holds = 360

/** Columns for the chart, with an empty value where stretches are missing. */
export function columns(c: Curve): Columns {
  const out: Columns = [[], [], [], []]
  const gap = Math.max(c.stretchSeconds * late, c.stretchSeconds < 60 ? holds : 0)
  c.at.forEach((ms, i) => {
    const x = ms / 1000
    const before = out[0].at(-1)
    if (before !== undefined && x - before > gap) {
      out[0].push(before + 1)
      for (const column of [out[1], out[2], out[3]]) column.push(null)
    }
    out[0].push(x)
    out[1].push(c.max[i] ?? null)
    out[2].push(c.min[i] ?? null)
    out[3].push(c.mean[i] ?? null)
  })
  return out
}
