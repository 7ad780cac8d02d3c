import type { ButtonHTMLAttributes, ReactNode } from 'react'

export const tones = {
  plain: 'border-rule2 bg-panel hover:border-ink3',
  strong: 'border-ink bg-ink text-panel hover:opacity-90',
  bare: 'border-transparent hover:bg-sunk',
}

/** A button says what it does, never only "OK". */
export function Button({
  tone = 'plain',
  className = '',
  ...rest
}: ButtonHTMLAttributes<HTMLButtonElement> & { tone?: keyof typeof tones }) {
  return (
    <button
      type="button"
      {...rest}
      className={`inline-flex min-h-8 items-center justify-center gap-1.5 rounded-md border px-3 py-1 font-medium whitespace-nowrap disabled:opacity-45 max-sm:min-h-11 ${tones[tone]} ${className}`}
    />
  )
}

export function Card({ title, aside, children }: { title: ReactNode; aside?: ReactNode; children: ReactNode }) {
  return (
    <section className="overflow-hidden rounded-lg border border-rule bg-panel">
      <header className="flex flex-wrap items-baseline justify-between gap-x-4 gap-y-1 px-4 pt-3 text-[12px] text-ink3">
        <h2 className="font-medium">{title}</h2>
        {aside}
      </header>
      <div className="px-4 pt-2 pb-4">{children}</div>
    </section>
  )
}

/** Names and what they are, line by line. */
export function Facts({ rows, className = '' }: { rows: [string, ReactNode][]; className?: string }) {
  return (
    <dl className={`grid grid-cols-[auto_1fr] gap-x-4 gap-y-1 ${className}`}>
      {rows.map(([name, value]) => (
        <div key={name} className="contents">
          <dt className="text-ink3">{name}</dt>
          <dd className="min-w-0 break-words">{value}</dd>
        </div>
      ))}
    </dl>
  )
}

/** What went wrong, to which thing, and what to try. */
export function Wrong({ error, retry }: { error: Error; retry?: () => void }) {
  return (
    <div role="alert" className="m-5 rounded-lg border border-rule2 border-l-4 border-l-hung bg-panel p-4">
      <p>{error.message}</p>
      {retry && (
        <Button className="mt-3" onClick={retry}>
          Try again
        </Button>
      )}
    </div>
  )
}

export function Loading({ what }: { what: string }) {
  return <p className="p-5 text-ink3">Loading {what}…</p>
}

/** A number of short values as a line without axes. */
export function Spark({ values, tone }: { values: number[]; tone: string }) {
  const w = 74
  const h = 18
  if (values.length < 2) return <svg width={w} height={h} aria-hidden />
  const hi = Math.max(...values)
  const lo = Math.min(...values)
  // A small change of a large draw must not look like a storm.
  const span = Math.max(hi - lo, hi * 0.35, 1)
  const mid = (hi + lo) / 2
  const points = values.map(
    (v, i) => `${((i / (values.length - 1)) * w).toFixed(1)},${(h / 2 - ((v - mid) / span) * (h - 4)).toFixed(1)}`,
  )
  return (
    <svg width={w} height={h} aria-hidden className={`block ${tone}`}>
      <polyline points={points.join(' ')} fill="none" stroke="currentColor" strokeWidth={1.2} />
    </svg>
  )
}

/** The name of one in a list, which shows or hides all about it. open is the name of the one that is shown. */
export function Opener(props: { name: string; open: string; onOpen: (name: string) => void }) {
  const { name, open, onOpen } = props
  return (
    <button
      type="button"
      className="text-left font-semibold hover:underline max-sm:min-h-11"
      aria-expanded={open === name}
      onClick={() => onOpen(open === name ? '' : name)}
    >
      {name}
    </button>
  )
}
