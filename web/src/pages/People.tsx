import { type FormEvent, useState } from 'react'
import type { Account, NewPassword, Role } from '../api/client'
import { useAccounts, useChangeAccounts, useChangePassword, useSession } from '../api/hooks'
import { At } from '../parts/time'
import { Button, Card, Loading, Wrong } from '../parts/ui'
import { OwnKeys } from './OwnKeys'

/** Each role may do all that those before it may. */
export const roles: Record<Role, string> = {
  viewer: 'sees everything, and acts on nothing',
  operator: 'acts: power, windows, wiring checks, UPS tests',
  steward: 'changes the estate, and goes ahead against the interlocks that say so',
  keeper: 'changes secrets and accounts',
}

const here = Intl.DateTimeFormat().resolvedOptions().timeZone
const field = 'h-8 rounded-md border border-rule2 bg-panel px-2 max-sm:h-11'

export function PeoplePage() {
  const session = useSession().data
  const steward = session?.role === 'steward' || session?.role === 'keeper'
  return (
    <div className="space-y-4 px-5 py-4 max-sm:px-3.5">
      <h1 className="text-[21px] font-bold">People</h1>
      {steward && <Accounts mine={session.account} keeper={session.role === 'keeper'} />}
      <OwnPassword account={session?.account ?? ''} role={session?.role ?? ''} />
      <OwnKeys />
    </div>
  )
}

function Accounts({ mine, keeper }: { mine: string; keeper: boolean }) {
  const accounts = useAccounts()
  const change = useChangeAccounts()
  const [shown, setShown] = useState<NewPassword>()
  if (accounts.isPending) return <Loading what="the accounts" />
  if (accounts.isError) return <Wrong error={accounts.error} retry={() => void accounts.refetch()} />
  const reveal = { onSuccess: (p: NewPassword | undefined) => setShown(p) }
  return (
    <Card title="Who may log in">
      <div className="-mx-4 overflow-x-auto">
        <table className="w-full border-collapse">
          <thead>
            <tr className="h-8 text-left text-[12px] text-ink3 [&>th]:px-4 [&>th]:font-normal">
              <th>Account</th>
              <th>Role</th>
              <th className="max-sm:hidden">Log-ins</th>
              <th className="max-md:hidden">The newest</th>
              {keeper && (
                <th>
                  <span className="sr-only">Changes</span>
                </th>
              )}
            </tr>
          </thead>
          <tbody>
            {accounts.data.map((a) => (
              <Row
                key={a.name}
                account={a}
                changeable={keeper && a.name !== mine}
                setRole={(role) => change.mutate({ what: 'role', name: a.name, role })}
                reset={() => change.mutate({ what: 'reset', name: a.name }, reveal)}
                remove={() => change.mutate({ what: 'remove', name: a.name })}
              />
            ))}
          </tbody>
        </table>
      </div>
      {change.isError && <Wrong error={change.error} />}
      {shown && <Revealed password={shown} close={() => setShown(undefined)} />}
      {keeper && <Add add={(name, role) => change.mutate({ what: 'add', name, role }, reveal)} />}
    </Card>
  )
}

function Row({
  account: a,
  changeable,
  setRole,
  reset,
  remove,
}: {
  account: Account
  changeable: boolean
  setRole: (r: Role) => void
  reset: () => void
  remove: () => void
}) {
  const [sure, setSure] = useState(false)
  return (
    <tr className="border-t border-rule [&>td]:px-4 [&>td]:py-1.5">
      <td className="font-semibold">{a.name}</td>
      <td>
        {changeable ? (
          <RoleField label={`Role of ${a.name}`} value={a.role} onChange={setRole} />
        ) : (
          <span title={roles[a.role]}>{a.role}</span>
        )}
      </td>
      <td className="text-ink2 max-sm:hidden">{a.logIns === 0 ? 'none' : a.logIns}</td>
      <td className="text-ink2 max-md:hidden">{a.lastLogIn && <At at={a.lastLogIn} zone={here} />}</td>
      {changeable && (
        <td>
          <div className="flex flex-wrap justify-end gap-2">
            {sure ? (
              <>
                <Button tone="strong" onClick={remove}>
                  Remove {a.name}
                </Button>
                <Button tone="bare" onClick={() => setSure(false)}>
                  Keep
                </Button>
              </>
            ) : (
              <>
                <Button tone="bare" onClick={reset}>
                  New password
                </Button>
                <Button tone="bare" onClick={() => setSure(true)}>
                  Remove…
                </Button>
              </>
            )}
          </div>
        </td>
      )}
    </tr>
  )
}

function RoleField({ label, value, onChange }: { label: string; value: Role; onChange: (r: Role) => void }) {
  return (
    <select aria-label={label} className={field} value={value} onChange={(e) => onChange(e.target.value as Role)}>
      {(Object.keys(roles) as Role[]).map((r) => (
        <option key={r}>{r}</option>
      ))}
    </select>
  )
}

function Add({ add }: { add: (name: string, role: Role) => void }) {
  const [name, setName] = useState('')
  const [role, setRole] = useState<Role>('viewer')
  const submit = (e: FormEvent) => {
    e.preventDefault()
    add(name, role)
    setName('')
  }
  return (
    <form onSubmit={submit} className="mt-3 flex flex-wrap items-center gap-2 border-t border-rule pt-3">
      <input
        aria-label="Name of the new account"
        placeholder="name"
        className={`${field} w-40`}
        value={name}
        onChange={(e) => setName(e.target.value)}
        autoCapitalize="none"
      />
      <RoleField label="Role of the new account" value={role} onChange={setRole} />
      <Button type="submit" disabled={name === ''}>
        Add the account
      </Button>
      <span className="text-ink3">{roles[role]}</span>
    </form>
  )
}

/** A password that was generated: it is shown this once. */
function Revealed({ password: p, close }: { password: NewPassword; close: () => void }) {
  return (
    <div role="status" className="mt-3 flex flex-wrap items-center gap-x-4 gap-y-2 rounded-md bg-sunk p-3">
      <span>
        The password of {p.account}, shown this once: <code className="font-mono font-semibold">{p.password}</code>
      </span>
      <Button onClick={() => void navigator.clipboard?.writeText(p.password)}>Copy</Button>
      <Button tone="bare" onClick={close}>
        Hide it
      </Button>
    </div>
  )
}

function OwnPassword({ account, role }: { account: string; role: string }) {
  const change = useChangePassword()
  const [was, setWas] = useState('')
  const [now, setNow] = useState('')
  const submit = (e: FormEvent) => {
    e.preventDefault()
    change.mutate(
      { old: was, new: now },
      {
        onSuccess: () => {
          setWas('')
          setNow('')
        },
      },
    )
  }
  return (
    <Card title="Your own password">
      <p className="mb-3 text-ink2">
        You are {account}, {role}: {roles[role as Role]}. Changing the password ends all your other log-ins.
      </p>
      <form onSubmit={submit} className="flex flex-wrap items-end gap-2">
        <input type="hidden" name="username" autoComplete="username" value={account} readOnly />
        <Password label="The old one" value={was} onChange={setWas} complete="current-password" />
        <Password label="The new one, 10 characters or more" value={now} onChange={setNow} complete="new-password" />
        <Button type="submit" disabled={was === '' || [...now].length < 10 || change.isPending}>
          Change it
        </Button>
      </form>
      {change.isError && <Wrong error={change.error} />}
      {change.isSuccess && <p className="mt-2">It is changed.</p>}
    </Card>
  )
}

function Password(p: { label: string; value: string; onChange: (v: string) => void; complete: string }) {
  return (
    <label className="flex flex-col gap-1 text-[12px] text-ink3 max-sm:w-full">
      {p.label}
      <input
        type="password"
        autoComplete={p.complete}
        className={`${field} text-[14px] text-ink`}
        value={p.value}
        onChange={(e) => p.onChange(e.target.value)}
      />
    </label>
  )
}
