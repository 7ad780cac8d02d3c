/** How full something is: 1 is all that it may carry. With `full` more is better. */
export function Gauge({ share, full = false }: { share: number | undefined; full?: boolean }) {
  if (share === undefined) return <span className="h-2 rounded-sm border border-dotted border-rule2" />
  const bad = full ? share < 0.25 : share > 1
  const near = full ? share < 0.5 : share > 0.8
  const tone = bad ? 'bg-hung' : near ? 'bg-strained' : 'bg-ink3'
  return (
    <span
      role="img"
      aria-label={`${Math.round(share * 100)} %`}
      className="block h-2 min-w-12 overflow-hidden rounded-sm bg-sunk"
    >
      <span className={`block h-full ${tone}`} style={{ width: `${Math.min(100, Math.max(1, share * 100))}%` }} />
    </span>
  )
}
