import '@fontsource-variable/inter'
import '@fontsource-variable/jetbrains-mono'
import './styles.css'
import { MutationCache, QueryCache, QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { lazy, StrictMode, Suspense } from 'react'
import { createRoot } from 'react-dom/client'
import { ProblemError } from './api/client'
import { forgetOthers, useSession } from './api/hooks'
import { LogInPage } from './pages/LogIn'
import { applyTheme } from './parts/theme'
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

// The log-in page comes first, and what is behind it while somebody types.
const pages = import('./Pages')
const Pages = lazy(() => pages)

function App() {
  const session = useSession()
  if (session.isPending) return <Loading what="who you are" />
  if (session.data)
    return (
      <Suspense fallback={<Loading what="the console" />}>
        <Pages />
      </Suspense>
    )
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
