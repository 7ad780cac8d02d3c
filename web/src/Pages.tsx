import { createBrowserRouter, RouterProvider } from 'react-router'
import { BoardPage } from './pages/Board'
import { NotFoundPage } from './pages/NotFound'
import { Broken } from './parts/Broken'
import { Layout } from './parts/Layout'
import { Loading } from './parts/ui'

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
          {
            path: '/devices/:key/serial',
            lazy: async () => ({ Component: (await import('./pages/Serial')).SerialPage }),
          },
          {
            path: '/devices/:key/screen',
            lazy: async () => ({ Component: (await import('./pages/Screen')).ScreenPage }),
          },
          { path: '/power', lazy: async () => ({ Component: (await import('./pages/Power')).PowerPage }) },
          { path: '/incidents', lazy: async () => ({ Component: (await import('./pages/Incidents')).IncidentsPage }) },
          {
            path: '/incidents/:id',
            lazy: async () => ({ Component: (await import('./pages/Incident')).IncidentPage }),
          },
          { path: '/journal', lazy: async () => ({ Component: (await import('./pages/Journal')).JournalPage }) },
          { path: '/events', lazy: async () => ({ Component: (await import('./pages/Events')).EventsPage }) },
          { path: '/estate', lazy: async () => ({ Component: (await import('./pages/Estate')).EstatePage }) },
          { path: '/telling', lazy: async () => ({ Component: (await import('./pages/Telling')).TellingPage }) },
          { path: '/orders', lazy: async () => ({ Component: (await import('./pages/Orders')).OrdersPage }) },
          {
            path: '/readiness',
            lazy: async () => ({ Component: (await import('./pages/Readiness')).ReadinessPage }),
          },
          { path: '/people', lazy: async () => ({ Component: (await import('./pages/People')).PeoplePage }) },
          { path: '*', element: <NotFoundPage /> },
        ],
      },
    ],
  },
])

/** Everything that needs a log-in. */
export default function Pages() {
  return <RouterProvider router={router} />
}
