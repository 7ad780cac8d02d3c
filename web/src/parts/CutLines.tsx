import type { Hop, Preview } from '../api/client'
import { useDevice } from '../api/hooks'
import { Strands } from '../marks/lines'

/** What becomes of a device that keeps its power. */
const goes: Partial<Record<Preview['kind'], string>> = {
  reset: 'starts anew',
  sleep: 'falls asleep',
  shutdown: 'shuts down',
}

/** A strand as it will be: broken at what goes dark, and slack below that. */
export function cutStrand(hops: Hop[], p: Pick<Preview, 'kind' | 'loses' | 'outlets'>): Hop[] {
  const opened = new Set(p.outlets.map((o) => o.place))
  let broken = false
  return hops.map((h, i) => {
    if (broken) return { ...h, state: 'slack', text: 'without' }
    const dark = h.device !== undefined && p.loses.includes(h.device)
    broken = dark || opened.has(`${h.label} of ${hops[i - 1]?.device}`)
    return broken ? { ...h, state: 'broken', text: dark ? (goes[p.kind] ?? 'goes dark') : 'switched off' } : h
  })
}

/** The lines of a device as they will be meanwhile, with what hangs below it slack. */
export function CutLines({ preview: p }: { preview: Preview }) {
  const device = useDevice(p.device)
  if (!device.data || p.loses.length === 0) return null
  const { power, reach } = device.data
  const n = p.cutOff.length
  const below = n > 0 ? `${n} ${n === 1 ? 'device' : 'devices'}` : undefined
  const columns: { name: string; strands: Hop[][]; below?: string | undefined }[] = [
    ...(goes[p.kind] ? [] : [{ name: 'Power line, meanwhile', strands: power }]),
    { name: 'Reach line, meanwhile', strands: reach, below },
  ]
  return (
    <div className="mt-4 grid grid-cols-2 gap-4 rounded-md border border-rule p-3">
      {columns.map(
        (c) =>
          c.strands.length > 0 && (
            <div key={c.name} className="min-w-0">
              <h3 className="mb-2 text-[12px] text-ink3">{c.name}</h3>
              <Strands strands={c.strands.map((s) => cutStrand(s.slice(-3), p))} self={p.device} below={c.below} />
            </div>
          ),
      )}
    </div>
  )
}
