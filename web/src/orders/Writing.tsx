import type { UseMutationResult } from '@tanstack/react-query'
import type { ReactNode } from 'react'
import { Button } from '../parts/ui'

type Set = UseMutationResult<{ names: string[]; lacks: string[] }, Error, { text: string; check: boolean }>

interface Props {
  label: string
  text: string
  onText: (text: string) => void
  set: Set
  /** What is said when it counts. */
  counts: string
  busy?: boolean
  /** Beside the buttons. */
  more?: ReactNode
  /** Under the text. */
  children?: ReactNode
  onDone: () => void
}

/** A text that is written, looked at and put in force. */
export function Writing({ label, text, onText, set, counts, busy, more, children, onDone }: Props) {
  const waits = busy || set.isPending || text === ''
  return (
    <div className="mt-2 flex flex-col gap-2">
      <textarea
        aria-label={label}
        className="h-80 w-full rounded-md border border-rule2 bg-panel p-2 font-mono text-[12px]"
        spellCheck={false}
        value={text}
        onChange={(e) => {
          onText(e.target.value)
          set.reset()
        }}
      />
      {set.isError && <pre className="text-[12.5px] whitespace-pre-wrap text-hung">{set.error.message}</pre>}
      {set.data?.lacks.map((l) => (
        <p key={l} className="border-l-2 border-strained pl-2 text-[12.5px] text-ink2">
          {l}
        </p>
      ))}
      {set.isSuccess && (
        <p className="text-[12.5px] text-ink2">
          {set.variables.check ? 'It is right' : counts}: {set.data.names.join(', ')}
        </p>
      )}
      {children}
      <div className="flex flex-wrap gap-2">
        <Button disabled={waits} onClick={() => set.mutate({ text, check: true })}>
          Look whether it is right
        </Button>
        {more}
        <Button tone="strong" disabled={waits} onClick={() => set.mutate({ text, check: false })}>
          Put it in force
        </Button>
        <Button onClick={onDone}>Close</Button>
      </div>
    </div>
  )
}
