import '@fontsource-variable/inter'
import '@fontsource-variable/jetbrains-mono'
import './styles.css'
import { MutationCache, QueryCache, QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import { createBrowserRouter, RouterProvider } from 'react-router'
import { ProblemError } from './api/client'
import { useSession } from './api/hooks'
import { BoardPage } from './pages/Board'
import { DevicePage } from './pages/Device'
import { EstatePage } from './pages/Estate'
import { IncidentsPage } from './pages/Incidents'
import { JournalPage } from './pages/Journal'
import { LogInPage } from './pages/LogIn'
import { NotFoundPage } from './pages/NotFound'
import { PeoplePage } from './pages/People'
import { PowerPage } from './pages/Power'
import { applyTheme, Layout } from './parts/Layout'
import { Loading, Wrong } from './parts/ui'

applyTheme()

/** A log-in that has ended shows itself in any answer: then the log-in page is due. */
function noticeLogOut(error: Error) {
  if (error instanceof ProblemError && error.kind === 'not-logged-in') client.setQueryData(['session'], null)
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
    children: [
      { path: '/', element: <BoardPage /> },
      { path: '/devices/:key', element: <DevicePage /> },
      { path: '/power', element: <PowerPage /> },
      { path: '/incidents', element: <IncidentsPage /> },
      { path: '/journal', element: <JournalPage /> },
      { path: '/estate', element: <EstatePage /> },
      { path: '/people', element: <PeoplePage /> },
      { path: '*', element: <NotFoundPage /> },
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
