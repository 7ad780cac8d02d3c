import '@fontsource-variable/inter'
import '@fontsource-variable/jetbrains-mono'
import './styles.css'
import { MutationCache, QueryCache, QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import { createBrowserRouter, RouterProvider } from 'react-router'
import { ProblemError } from './api/client'
import { forgetOthers, useSession } from './api/hooks'
import { BoardPage } from './pages/Board'
import { LogInPage } from './pages/LogIn'
import { NotFoundPage } from './pages/NotFound'
import { Broken } from './parts/Broken'
import { applyTheme, Layout } from './parts/Layout'
import { Loading, Wrong } from './parts/ui'

applyTheme()

/** A log-in that has ended shows itself in any answer: then the log-in page is due. */
function noticeLogOut(error: Error) {
  if (!(error instanceof ProblemError) || error.kind !== 'not-logged-in') return
  forgetOthers(client) // whoever logs in next sees nothing of this one's
  client.setQueryData(['session'], null)
}

/** What the service has answered it would answer again; only silence may pass. */
function worthRetrying(failures: number, error: Error) {
  return failures < 1 && !(error instanceof ProblemError && error.problem.status > 0)
}

const client: QueryClient = new QueryClient({
  queryCache: new QueryCache({ onError: noticeLogOut }),
  mutationCache: new MutationCache({ onError: noticeLogOut }),
  defaultOptions: {
    queries: { refetchOnWindowFocus: false, networkMode: 'always', retry: worthRetrying },
    mutations: { networkMode: 'always' },
  },
})

const router = createBrowserRouter([
  {
    element: <Layout />,
    errorElement: <Broken />,
    HydrateFallback: () => <Loading what="the console" />,
    children: [
      // Whatever is wrong with a page, those beside it can still be reached.
      {
        errorElement: <Broken />,
        children: [
          { path: '/', element: <BoardPage /> },
          { path: '/devices/:key', lazy: async () => ({ Component: (await import('./pages/Device')).DevicePage }) },
          { path: '/power', lazy: async () => ({ Component: (await import('./pages/Power')).PowerPage }) },
          { path: '/incidents', lazy: async () => ({ Component: (await import('./pages/Incidents')).IncidentsPage }) },
          { path: '/journal', lazy: async () => ({ Component: (await import('./pages/Journal')).JournalPage }) },
          { path: '/estate', lazy: async () => ({ Component: (await import('./pages/Estate')).EstatePage }) },
          { path: '/people', lazy: async () => ({ Component: (await import('./pages/People')).PeoplePage }) },
          { path: '*', element: <NotFoundPage /> },
        ],
      },
    ],
  },
])

function App() {
  const session = useSession()
  if (session.isPending) return <Loading what="who you are" />
  if (session.data) return <RouterProvider router={router} />
  if (session.error instanceof ProblemError && session.error.kind !== 'not-logged-in')
    return <Wrong error={session.error} retry={() => void session.refetch()} />
  return <LogInPage />
}

const root = document.getElementById('root')
if (root)
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={client}>
        <App />
      </QueryClientProvider>
    </StrictMode>,
  )
