/**
 * Every page of the console: its address, what draws it, and how the palette offers it. A new page is an entry here.
 *
 * What a page reads has its keys in `api/keys.ts`, which say what makes it stale; several pages may share a reading.
 */
import { lazy, type ComponentType } from 'react'

export type Page = {
  /** The address: of pages of a project, below the project. */
  path: string
  Draw: ComponentType
  /** How the palette offers the page, with other words for it. Pages of one thing are found by the thing's name. */
  palette?: { title: string; words: string }
}

export const Shared = lazy(() => import('./shared/Shared'))
export const Welcome = lazy(() => import('./welcome/Welcome'))
export const Experiment = lazy(() => import('./experiment/Experiment'))

/** Pages that belong to no project. */
export const PAGES: readonly Page[] = [
  {
    path: '/',
    Draw: lazy(() => import('./today/Today')),
    palette: { title: 'Today', words: 'home news dashboard inbox' },
  },
  {
    path: '/projects',
    Draw: lazy(() => import('./project/Projects')),
    palette: { title: 'Projects', words: 'workspaces all' },
  },
  {
    path: '/account',
    Draw: lazy(() => import('./account/Account')),
    palette: { title: 'Your account', words: 'password sessions tokens profile theme time zone' },
  },
  {
    path: '/people',
    Draw: lazy(() => import('./people/People')),
    palette: { title: 'People', words: 'users accounts invite groups' },
  },
  {
    path: '/journal',
    Draw: lazy(() => import('./journal/Journal')),
    palette: { title: 'Journal of the instance', words: 'audit log who did what' },
  },
  {
    path: '/instance',
    Draw: lazy(() => import('./instance/Instance')),
    palette: { title: 'Instance', words: 'health version processes database store' },
  },
]

export const PROJECT_PAGES: readonly Page[] = [
  {
    path: '',
    Draw: lazy(() => import('./project/Project')),
    palette: { title: 'Experiments', words: 'runs project overview members people' },
  },
  { path: 'e/:experiment', Draw: Experiment },
  { path: 'e/:experiment/:run', Draw: lazy(() => import('./run/RunPage')) },
  { path: 'compare', Draw: lazy(() => import('./compare/Compare')) },
  {
    path: 'data',
    Draw: lazy(() => import('./data/DataList')),
    palette: { title: 'Data', words: 'artifacts files datasets inputs' },
  },
  { path: 'data/:artifact', Draw: lazy(() => import('./data/Data')) },
  {
    path: 'models',
    Draw: lazy(() => import('./models/Models')),
    palette: { title: 'Models', words: 'registry stages production ladder' },
  },
  { path: 'models/:model', Draw: lazy(() => import('./model/Model')) },
  { path: 'models/:model/:version', Draw: lazy(() => import('./review/Review')) },
  {
    path: 'lineage',
    Draw: lazy(() => import('./lineage/Lineage')),
    palette: { title: 'Lineage', words: 'provenance graph origin' },
  },
  {
    path: 'storage',
    Draw: lazy(() => import('./storage/Storage')),
    palette: { title: 'Storage', words: 'disk space room size' },
  },
  {
    path: 'settings',
    Draw: lazy(() => import('./settings/Settings')),
    palette: { title: 'Settings', words: 'members roles tokens archive rename delete' },
  },
  {
    path: 'journal',
    Draw: lazy(() => import('./journal/Journal').then((page) => ({ default: page.ProjectJournal }))),
    palette: { title: 'Journal', words: 'audit history who did what' },
  },
  {
    path: 'bin',
    Draw: lazy(() => import('./bin/Bin')),
    palette: { title: 'Bin', words: 'trash deleted restore undo' },
  },
]
