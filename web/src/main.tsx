import { QueryCache, QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { lazy, StrictMode, Suspense } from 'react'
import { createRoot } from 'react-dom/client'
import { createBrowserRouter } from 'react-router'
import { RouterProvider } from 'react-router/dom'
import { ServiceError } from './api/client'
import './app.css'
import { Gate } from './pages/signin/Gate'
import { ProjectFrame, Waiting } from './parts/Shell'
import { applyTheme } from './parts/theme'
import { keys } from './api/keys'

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

const Today = lazy(() => import('./pages/today/Today'))
const Projects = lazy(() => import('./pages/project/Projects'))
const Project = lazy(() => import('./pages/project/Project'))
const Experiment = lazy(() => import('./pages/experiment/Experiment'))
const RunPage = lazy(() => import('./pages/run/RunPage'))
const Compare = lazy(() => import('./pages/compare/Compare'))
const Models = lazy(() => import('./pages/models/Models'))
const Model = lazy(() => import('./pages/model/Model'))
const DataList = lazy(() => import('./pages/data/DataList'))
const Data = lazy(() => import('./pages/data/Data'))
const Lineage = lazy(() => import('./pages/lineage/Lineage'))
const Storage = lazy(() => import('./pages/storage/Storage'))
const Bin = lazy(() => import('./pages/bin/Bin'))
const Shared = lazy(() => import('./pages/shared/Shared'))
const Review = lazy(() => import('./pages/review/Review'))

const router = createBrowserRouter([
  { path: '/shared/:secret', element: <Shared /> },
  {
    element: <Gate />,
    children: [
      { path: '/', element: <Today /> },
      { path: '/projects', element: <Projects /> },
      {
        path: '/embed/:project',
        element: <ProjectFrame />,
        children: [{ path: 'e/:experiment', element: <Experiment /> }],
      },
      {
        path: '/:project',
        element: <ProjectFrame />,
        children: [
          { index: true, element: <Project /> },
          { path: 'e/:experiment', element: <Experiment /> },
          { path: 'e/:experiment/:run', element: <RunPage /> },
          { path: 'compare', element: <Compare /> },
          { path: 'data', element: <DataList /> },
          { path: 'data/:artifact', element: <Data /> },
          { path: 'lineage', element: <Lineage /> },
          { path: 'storage', element: <Storage /> },
          { path: 'bin', element: <Bin /> },
          { path: 'models', element: <Models /> },
          { path: 'models/:model', element: <Model /> },
          { path: 'models/:model/:version', element: <Review /> },
        ],
      },
      { path: '*', element: <Waiting error={new ServiceError('There is no page at this address.', 404)} /> },
    ],
  },
])

createRoot(document.getElementById('root') as HTMLElement).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <Suspense fallback={<Waiting error={null} />}>
        <RouterProvider router={router} />
      </Suspense>
    </QueryClientProvider>
  </StrictMode>,
)
