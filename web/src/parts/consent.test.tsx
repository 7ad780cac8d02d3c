// @vitest-environment jsdom
import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { cleanup, fireEvent, render, screen } from '@testing-library/react'
import { afterEach, expect, it } from 'vitest'
import type { Interlock } from '../api/client'
import { Foot, Locks, useConsent } from './consent'

const guarded: Interlock = { name: 'guarded', reason: 'x is guarded', lift: 'name', devices: ['x'] }
const idle = { isPending: false, error: null }

function Asking({ locks }: { locks: Interlock[] }) {
  const consent = useConsent(locks)
  return (
    <>
      <Locks interlocks={locks} consent={consent} />
      <Foot consent={consent} request={idle} onLeave={() => {}}>
        Cycle x
      </Foot>
    </>
  )
}

const ask = (locks: Interlock[], role: string) => {
  const client = new QueryClient()
  client.setQueryData(['session'], { account: 'a', role })
  render(
    <QueryClientProvider client={client}>
      <Asking locks={locks} />
    </QueryClientProvider>,
  )
  return screen.queryByRole<HTMLButtonElement>('button', { name: 'Cycle x' })
}

afterEach(cleanup)

// Somebody with a phone cannot hover over a button to learn why it is grey.
it('says beside a button that cannot be used what is missing', () => {
  const button = ask([guarded], 'operator')
  expect(button?.disabled).toBe(true)
  const why = document.getElementById(button?.getAttribute('aria-describedby') ?? '')
  expect(why?.textContent).toMatch(/^Type the name/)
  fireEvent.change(screen.getByLabelText(/is guarded/), { target: { value: 'x' } })
  expect(button?.disabled).toBe(false)
  expect(screen.queryByText(/^Type the name of/)).toBeNull()
})

it('tells a viewer once that acting is for others', () => {
  expect(ask([guarded], 'viewer')?.disabled).toBe(true)
  expect(screen.getAllByText(/You are viewer/)).toHaveLength(1)
})

it('has no button for what is never allowed', () => {
  expect(ask([{ name: 'own-path', reason: 'it cuts our own path', lift: 'never' }], 'keeper')).toBeNull()
})
