import { useId, useState } from 'react'
import { useLogIn } from '../api/hooks'
import { Mark } from '../marks/Mark'
import { Button } from '../parts/ui'

export function LogInPage() {
  const logIn = useLogIn()
  const [account, setAccount] = useState(() => localStorage.getItem('account') ?? 'admin')
  const [password, setPassword] = useState('')
  const accountField = useId()
  const passwordField = useId()
  const field =
    'mt-1 mb-4 block min-h-10 w-full rounded-md border border-rule2 bg-paper px-3 max-sm:min-h-11 max-sm:text-[16px]'
  return (
    <main className="mx-auto flex min-h-dvh max-w-sm flex-col justify-center p-5">
      <div className="mb-6 flex items-center gap-3">
        <Mark state="steady" size={40} />
        <h1 className="text-[21px] font-bold">Plumb Bob</h1>
      </div>
      <form
        className="rounded-lg border border-rule bg-panel p-5"
        onSubmit={(e) => {
          e.preventDefault()
          localStorage.setItem('account', account)
          logIn.mutate({ account, password })
        }}
      >
        <label htmlFor={accountField}>Account</label>
        <input
          id={accountField}
          className={field}
          value={account}
          autoComplete="username"
          autoCapitalize="none"
          onChange={(e) => setAccount(e.target.value)}
        />
        <label htmlFor={passwordField}>Password</label>
        <input
          id={passwordField}
          className={field}
          type="password"
          autoComplete="current-password"
          // biome-ignore lint/a11y/noAutofocus: there is nothing else to do here
          autoFocus
          value={password}
          onChange={(e) => setPassword(e.target.value)}
        />
        {logIn.isError && (
          <p role="alert" className="mb-4 text-hung">
            {logIn.error.message}
          </p>
        )}
        <Button type="submit" tone="strong" className="w-full" disabled={logIn.isPending || password === ''}>
          {logIn.isPending ? 'Logging in…' : 'Log in'}
        </Button>
      </form>
    </main>
  )
}
