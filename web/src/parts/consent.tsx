import { type ReactNode, useId, useState } from 'react'
import type { Interlock } from '../api/client'
import { useSession } from '../api/hooks'
import { capital } from './say'
import { Button } from './ui'

const roles = ['viewer', 'operator', 'steward', 'keeper']

/** Whether a role may do what needs another. */
export const atLeast = (has: string | undefined, needs: string | undefined) =>
  needs === undefined || roles.indexOf(has ?? '') >= roles.indexOf(needs)

/** What somebody says to the interlocks, and whether that is enough. */
export function useConsent(interlocks: Interlock[]) {
  const role = useSession().data?.role
  const [why, setWhy] = useState('')
  const [typed, setTyped] = useState('')
  const [override, setOverride] = useState<string[]>([])
  const byReason = interlocks.filter((l) => l.lift === 'reason')
  const guarded = [...new Set(interlocks.filter((l) => l.lift === 'name').flatMap((l) => l.devices ?? []))]
  const never = interlocks.some((l) => l.lift === 'never')
  const missing = atLeast(role, 'operator')
    ? blockedBy(byReason, override, why, guarded, typed)
    : `You are ${role}: you see everything, and act on nothing`
  return {
    role,
    why,
    setWhy,
    typed,
    setTyped,
    override,
    setOverride,
    byReason,
    guarded,
    never,
    missing,
    may: !never && missing === undefined,
    given: { why: why.trim(), names: guarded, override },
  }
}

export type Consent = ReturnType<typeof useConsent>

/** What stands in the way, and the fields that lift it. */
export function Locks({ interlocks, consent: c }: { interlocks: Interlock[]; consent: Consent }) {
  const whyField = useId()
  const nameField = useId()
  const nevers = interlocks.filter((l) => l.lift === 'never')
  // Of several devices the same rule may say several things: one answer lifts them all.
  const names = [...new Set(c.byReason.map((l) => l.name))]
  return (
    <>
      {!atLeast(c.role, 'operator') && <p className="mt-3 rounded-md border border-rule2 p-3">{c.missing}.</p>}
      {nevers.map((l) => (
        <p key={l.reason} role="alert" className="mt-3 rounded-md border border-hung p-3">
          <b className="text-hung">Refused.</b> {capital(l.reason)}.
        </p>
      ))}
      {!c.never && (
        <>
          {names.map((name) => (
            <label key={name} className="mt-3 flex gap-2 rounded-md border border-strained p-3">
              <input
                type="checkbox"
                disabled={!atLeast(c.role, needed(c.byReason, name))}
                checked={c.override.includes(name)}
                onChange={(e) => c.setOverride((o) => (e.target.checked ? [...o, name] : o.filter((n) => n !== name)))}
              />
              <span>
                {c.byReason
                  .filter((l) => l.name === name)
                  .map((l) => `${capital(l.reason)}.`)
                  .join(' ')}{' '}
                {atLeast(c.role, needed(c.byReason, name)) ? (
                  <>
                    <b>Go ahead all the same</b>, for the reason below.
                  </>
                ) : (
                  <b>
                    Only a {needed(c.byReason, name)} may go ahead all the same; you are {c.role}.
                  </b>
                )}
              </span>
            </label>
          ))}
          {c.guarded.length > 0 && (
            <div className="mt-3">
              <label htmlFor={nameField} className="block">
                <b>{c.guarded.join(', ')}</b>{' '}
                {c.guarded.length === 1 ? 'is guarded. Type its name' : 'are guarded. Type their names'} to cut{' '}
                {c.guarded.length === 1 ? 'it' : 'them'}:
              </label>
              <Field id={nameField} value={c.typed} onChange={c.setTyped} autoComplete="off" spellCheck={false} />
            </div>
          )}
          <label htmlFor={whyField} className="sr-only">
            Why? It goes into the journal
          </label>
          <Field
            id={whyField}
            className="mt-4"
            placeholder="Why? (goes into the journal)"
            maxLength={500}
            value={c.why}
            onChange={c.setWhy}
          />
        </>
      )}
    </>
  )
}

/** The end of a form that acts: what came back, what is missing yet, in words for those
 * who cannot hover, and the two ways out. */
export function Foot({
  consent: c,
  request,
  children,
  onLeave,
}: {
  consent: Consent
  request: { isPending: boolean; error: Error | null }
  children: ReactNode
  onLeave: () => void
}) {
  const missingText = useId()
  const says = !c.never && c.missing !== undefined && atLeast(c.role, 'operator')
  return (
    <>
      {request.error && (
        <p role="alert" className="mt-3 text-hung">
          {request.error.message}
        </p>
      )}
      {says && (
        <p id={missingText} className="mt-3 text-ink2">
          {c.missing}.
        </p>
      )}
      <div className="mt-4 flex gap-3 max-sm:flex-col sm:flex-row-reverse sm:justify-start">
        {!c.never && (
          <Button
            type="submit"
            tone="strong"
            disabled={!c.may || request.isPending}
            aria-describedby={says ? missingText : undefined}
          >
            {request.isPending ? 'Asking…' : children}
          </Button>
        )}
        <Button tone="bare" onClick={onLeave}>
          Leave it as it is
        </Button>
      </div>
    </>
  )
}

const needed = (locks: Interlock[], name: string) => locks.find((l) => l.name === name)?.role

/** What is still missing before the action may be asked for, in words. */
export function blockedBy(byReason: Interlock[], override: string[], why: string, guarded: string[], typed: string) {
  if (guarded.length > 0 && typed.trim() !== guarded.join(', ')) return 'Type the name of what is guarded first'
  if (byReason.some((l) => !override.includes(l.name)))
    return 'An interlock stands in the way: tick it to go ahead all the same'
  if (byReason.length > 0 && why.trim() === '') return 'Say why first'
  return undefined
}

export function Field({
  onChange,
  className = '',
  ...rest
}: Omit<React.InputHTMLAttributes<HTMLInputElement>, 'onChange'> & { onChange: (v: string) => void }) {
  return (
    <input
      {...rest}
      onChange={(e) => onChange(e.target.value)}
      className={`min-h-10 w-full rounded-md border border-rule2 bg-paper px-3 max-sm:min-h-11 max-sm:text-[16px] ${className}`}
    />
  )
}
