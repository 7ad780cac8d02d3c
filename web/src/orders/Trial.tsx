import type { TrialStep } from '../api/orders'

/** What a routine would do now, step by step. */
export function Trial({ steps }: { steps: TrialStep[] }) {
  return (
    <section aria-label="What it would do now" className="mt-2 rounded-md border border-rule2 p-2 text-[12.5px]">
      <h4 className="font-semibold">What it would do now</h4>
      <ol className="mt-1 flex flex-col gap-1">
        {steps.map((s) => (
          <li key={s.path + s.words} className="flex gap-2">
            <span className="shrink-0 text-ink3">{s.path}</span>
            <span className="min-w-0 break-words">
              {s.words}
              {s.says && <span className={`block ${s.ok ? 'text-ink2' : 'text-hung'}`}>{s.says}</span>}
            </span>
          </li>
        ))}
      </ol>
    </section>
  )
}
