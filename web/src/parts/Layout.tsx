import * as Menu from '@radix-ui/react-dropdown-menu'
import { CircleUserRound } from 'lucide-react'
import { useEffect, useState } from 'react'
import { Link, NavLink, Outlet, useLocation } from 'react-router'
import { useLogOut, useSession } from '../api/hooks'
import { type Looking, useLink, useStream } from '../api/stream'
import { ActionPanel } from './ActionPanel'
import { Jump } from './Jump'
import { applyTheme, readTheme, type Theme, themeNames } from './theme'
import { age, useNow } from './time'

const pages = [
  { to: '/', name: 'Board' },
  { to: '/power', name: 'Power' },
  { to: '/incidents', name: 'Incidents' },
  { to: '/journal', name: 'Journal' },
  { to: '/events', name: 'Events', narrow: 'max-sm:hidden' },
  { to: '/estate', name: 'Estate', narrow: 'max-sm:hidden' }, // in the menu there
]

/** Pages that show all devices, or have one chosen of them. */
const whole = ['/', '/power', '/telling', '/orders']

/** What of the devices a page shows, so that the rest need not be sent. */
export function lookingAt(path: string, search: string): Looking {
  if (whole.includes(path)) return 'all'
  const device = /^\/devices\/([^/]+)(?:\/(?:screen|serial))?$/.exec(path)?.[1] ?? new URLSearchParams(search).get('on')
  return device ? { device } : 'none'
}

export function Layout() {
  const { pathname, search } = useLocation()
  useStream(lookingAt(pathname, search))
  return (
    <>
      <a href="#main" className="sr-only focus:not-sr-only focus:absolute focus:z-50 focus:bg-panel focus:p-3">
        To the content
      </a>
      <header className="sticky top-0 z-10 border-b border-rule bg-paper/95 backdrop-blur-sm">
        <div className="mx-auto flex h-[46px] max-w-[1440px] items-center gap-5 px-5 max-sm:gap-3 max-sm:px-3.5">
          <NavLink to="/" className="flex items-center gap-2 font-bold" aria-label="Plumb Bob, to the board">
            <img src="/bob.svg" alt="" className="h-5 w-5" />
            <span className="max-sm:sr-only">Plumb Bob</span>
          </NavLink>
          <nav aria-label="Pages" className="flex h-full gap-5 max-sm:gap-4">
            {pages.map((p) => (
              <NavLink
                key={p.to}
                to={p.to}
                end
                className={({ isActive }) =>
                  `flex h-full items-center border-b-2 pt-0.5 ${p.narrow ?? ''} ${isActive ? 'border-brass' : 'border-transparent text-ink2 hover:text-ink'}`
                }
              >
                {p.name}
              </NavLink>
            ))}
          </nav>
          <div className="ml-auto flex items-center gap-4 max-sm:gap-2.5">
            <Jump />
            <LinkState />
            <Account />
          </div>
        </div>
      </header>
      <main id="main" className="mx-auto max-w-[1440px]">
        <Outlet />
      </main>
      <ActionPanel />
    </>
  )
}

/** Whether what is on the page is live: a page that is not must say so. */
function LinkState() {
  const link = useLink()
  const now = useNow()
  if (link.up) return <span className="text-[12px] text-ink3 max-sm:sr-only">live</span>
  return (
    <span role="status" className="text-[12px] font-semibold text-hung">
      no connection for {age(now - link.since)}
    </span>
  )
}

function Account() {
  const session = useSession()
  const logOut = useLogOut()
  const [theme, setTheme] = useState(readTheme)
  useEffect(() => {
    localStorage.setItem('theme', theme)
    applyTheme(theme)
  }, [theme])
  return (
    <Menu.Root modal={false}>
      <Menu.Trigger className="rounded px-1 text-ink2 hover:text-ink max-sm:min-h-10">
        <CircleUserRound size={20} aria-hidden className="sm:hidden" />
        <span className="max-sm:sr-only">{session.data?.account}</span>
      </Menu.Trigger>
      <Menu.Portal>
        <Menu.Content align="end" sideOffset={6} className="z-40 min-w-44 rounded-md border border-rule2 bg-panel p-1">
          <Menu.Label className="px-3 py-1.5 text-[12px] text-ink3">Paper</Menu.Label>
          <Menu.RadioGroup value={theme} onValueChange={(t) => setTheme(t as Theme)}>
            {(Object.keys(themeNames) as Theme[]).map((t) => (
              <Menu.RadioItem
                key={t}
                value={t}
                className="flex cursor-pointer justify-between rounded px-3 py-1.5 outline-none data-[highlighted]:bg-sunk"
              >
                {themeNames[t]}
                <Menu.ItemIndicator className="text-brass">✓</Menu.ItemIndicator>
              </Menu.RadioItem>
            ))}
          </Menu.RadioGroup>
          <Menu.Separator className="my-1 border-t border-rule" />
          <Menu.Item
            asChild
            className="block cursor-pointer rounded px-3 py-1.5 outline-none data-[highlighted]:bg-sunk"
          >
            <Link to="/people">People and passwords</Link>
          </Menu.Item>
          <Menu.Item
            asChild
            className="block cursor-pointer rounded px-3 py-1.5 outline-none data-[highlighted]:bg-sunk"
          >
            <Link to="/telling">Who is told</Link>
          </Menu.Item>
          <Menu.Item
            asChild
            className="block cursor-pointer rounded px-3 py-1.5 outline-none data-[highlighted]:bg-sunk"
          >
            <Link to="/orders">Standing orders</Link>
          </Menu.Item>
          <Menu.Item
            asChild
            className="block cursor-pointer rounded px-3 py-1.5 outline-none data-[highlighted]:bg-sunk"
          >
            <Link to="/readiness">Readiness</Link>
          </Menu.Item>
          {pages
            .filter((p) => p.narrow)
            .map((p) => (
              <Menu.Item
                key={p.to}
                asChild
                className="block cursor-pointer rounded px-3 py-1.5 outline-none data-[highlighted]:bg-sunk sm:hidden"
              >
                <Link to={p.to}>{p.name}</Link>
              </Menu.Item>
            ))}
          <Menu.Item
            onSelect={() => logOut.mutate()}
            className="cursor-pointer rounded px-3 py-1.5 outline-none data-[highlighted]:bg-sunk"
          >
            Log out
          </Menu.Item>
        </Menu.Content>
      </Menu.Portal>
    </Menu.Root>
  )
}
