import type { ReactNode } from 'react'
import { useSession } from '../api/hooks'
import type { PlaceState } from './place'
import { Button } from './ui'

/** Who is on, who types, and what can be done about that. */
export function WhoIsOn({
  state,
  wish,
  looks,
  children,
}: {
  state: PlaceState
  wish: (w: { do: string }) => void
  /** There is no keyboard to have. */
  looks?: boolean
  children?: ReactNode
}) {
  const session = useSession()
  const mine = state.seats?.find((s) => s.id === state.seat)
  const holder = state.seats?.find((s) => s.types)
  const asksMe = state.asked && mine?.types && state.asked.seat !== state.seat
  return (
    <div className="flex flex-wrap items-center gap-2 text-[12.5px]">
      <ul className="flex flex-wrap gap-x-3">
        {state.seats?.map((s) => (
          <li key={s.id} className={s.types && !looks ? 'font-semibold' : 'text-ink2'}>
            {s.who === session.data?.account && s.id === state.seat ? 'you' : s.who}
            {s.types && !looks && ' · keyboard'}
            {s.away && ' · away'}
          </li>
        ))}
      </ul>
      {mine && !looks && !mine.types && (
        <Button disabled={state.asked?.seat === state.seat} onClick={() => wish({ do: 'ask' })}>
          {state.asked?.seat === state.seat ? `Asked ${holder?.who ?? ''}…` : 'Ask for the keyboard'}
        </Button>
      )}
      {mine && !looks && !mine.types && state.mayTake && <Button onClick={() => wish({ do: 'take' })}>Take it</Button>}
      {asksMe && (
        <span className="flex flex-wrap items-center gap-2 border-l-2 border-brass pl-2">
          {state.asked?.who} asks for the keyboard, and gets it within {state.asked?.seconds} s.
          <Button onClick={() => wish({ do: 'give' })}>Give it</Button>
          <Button onClick={() => wish({ do: 'refuse' })}>Keep it</Button>
        </span>
      )}
      {children}
    </div>
  )
}
