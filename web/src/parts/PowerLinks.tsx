import { Link } from 'react-router'
import { useBoard } from '../api/hooks'

const kinds = ['reset', 'cycle', 'on'] as const
const names = { reset: 'Reset…', cycle: 'Cycle…', on: 'Switch on…' }

/** The power of a device, beside what is seen of it: the panel opens on the page that is there. */
export function PowerLinks({ device }: { device: string }) {
  const acts = useBoard().data?.devices.find((d) => d.key === device)?.acts ?? []
  return (
    <span className="ml-auto inline-flex gap-2">
      {kinds
        .filter((k) => acts.some((a) => a.kind === k))
        .map((k) => (
          <Link
            key={k}
            to={`?act=${k}&on=${device}`}
            className="inline-flex min-h-8 items-center rounded-md border border-rule2 bg-panel px-3 font-medium max-sm:min-h-11"
          >
            {names[k]}
          </Link>
        ))}
    </span>
  )
}
