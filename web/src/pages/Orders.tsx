import { type ClockTime, useClock } from '../api/orders'
import { Ladders } from '../orders/Ladders'
import { Routines } from '../orders/Routines'
import { Runs } from '../orders/Runs'
import { At } from '../parts/time'
import { Loading, Wrong } from '../parts/ui'

/** What is done without anybody at hand: what comes next, what there is, and what it did. */
export function OrdersPage() {
  return (
    <div className="flex max-w-5xl flex-col gap-6 px-5 py-4 max-sm:px-3.5">
      <div>
        <h1 className="text-[21px] font-bold">Standing orders</h1>
        <p className="mt-1 text-ink2">
          What is done without anybody at hand. It goes through the same previews and interlocks as what people do.
        </p>
      </div>
      <Next />
      <Ladders />
      <Routines />
      <Runs />
    </div>
  )
}

/** How many are shown. */
const most = 12

/** The next time of each, and how many more of it there are. */
function nextOfEach(times: ClockTime[]) {
  const all = new Map<string, { time: ClockTime; more: number }>()
  for (const time of times) {
    const was = all.get(time.name)
    if (was) was.more++
    else all.set(time.name, { time, more: 0 })
  }
  return [...all.values()]
}

function Next() {
  const clock = useClock()
  if (clock.isPending) return <Loading what="the clock" />
  if (clock.isError) return <Wrong error={clock.error} retry={() => void clock.refetch()} />
  const firsts = nextOfEach(clock.data)
  return (
    <section aria-label="What comes next">
      <h2 className="mb-2 text-[17px] font-semibold">By the clock, in the next seven days</h2>
      {clock.data.length === 0 && <p className="text-ink2">Nothing.</p>}
      <ol className="flex flex-col border-l-2 border-rule2">
        {firsts.slice(0, most).map(({ time: t, more }) => (
          <li key={t.at + t.name} className="flex gap-3 py-1 pl-3 max-sm:flex-col max-sm:gap-0">
            <span className="w-40 shrink-0 text-ink3 tabular-nums">
              <At at={t.at} zone={t.zone} />
            </span>
            <span className="min-w-0 break-words">
              <b>{t.kind === 'routine' ? t.name : 'once'}</b> {t.what}
              {more > 0 && <span className="text-ink3"> · then {more} more times</span>}
            </span>
          </li>
        ))}
      </ol>
      {firsts.length > most && <p className="mt-1 text-[12.5px] text-ink3">and {firsts.length - most} more</p>}
    </section>
  )
}
