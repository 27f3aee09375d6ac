import { QueryCache, QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { StrictMode, Suspense } from 'react'
import { createRoot } from 'react-dom/client'
import { createBrowserRouter } from 'react-router'
import { RouterProvider } from 'react-router/dom'
import { ServiceError } from './api/client'
import './app.css'
import { Experiment, PAGES, PROJECT_PAGES, Shared, Welcome, type Page } from './pages/pages'
import { Gate } from './pages/signin/Gate'
import { ProjectFrame, Waiting } from './parts/Shell'
import { applyTheme } from './parts/theme'
import { keys } from './api/keys'
import { BELOW } from './api/place'

applyTheme()

const queries = new QueryClient({
  queryCache: new QueryCache({
    onError: (error) => {
      // The session has ended, here or on another page: the gate asks to sign in again.
      if (error instanceof ServiceError && error.status === 401) queries.setQueryData(keys.me(), null)
    },
  }),
  defaultOptions: {
    queries: {
      staleTime: 30_000,
      refetchOnWindowFocus: false,
      retry: (count, error) =>
        error instanceof ServiceError && (error.status === 0 || error.status === 503) && count < 20,
      retryDelay: (count) => Math.min(5_000, 300 * 2 ** count),
    },
  },
})

const routesOf = (pages: readonly Page[]) =>
  pages.map(({ path, Draw }) =>
    path ? { path, element: <Draw /> } : { index: true as const, element: <Draw /> },
  )

const router = createBrowserRouter(
  [
    { path: '/shared/:secret', element: <Shared /> },
    { path: '/welcome/:secret', element: <Welcome /> },
    {
      element: <Gate />,
      children: [
        ...routesOf(PAGES),
        {
          path: '/embed/:project',
          element: <ProjectFrame />,
          children: [{ path: 'e/:experiment', element: <Experiment /> }],
        },
        {
          path: '/:project',
          element: <ProjectFrame />,
          children: routesOf(PROJECT_PAGES),
        },
        {
          path: '*',
          element: <Waiting error={new ServiceError('There is no page at this address.', 404)} />,
        },
      ],
    },
  ],
  { basename: BELOW || '/' },
)

createRoot(document.getElementById('root') as HTMLElement).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <Suspense fallback={<Waiting error={null} />}>
        <RouterProvider router={router} />
      </Suspense>
    </QueryClientProvider>
  </StrictMode>,
)
