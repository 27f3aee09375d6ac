/**
 * The keys of everything that is read: what it is, in which project, and which changes make it stale.
 *
 * A key says that itself, so that live changes find what they touch by name. A new reading is a line here; without saying
 * what changes it, it cannot be written.
 */
import type { QueryKey } from '@tanstack/react-query'

/** Which changes of a project make a reading stale. */
export type Staleness = {
  /** Changes of these runs. */
  runs?: readonly string[]
  /** Changes of runs of this experiment. */
  experiment?: string
  /** Changes of any run. */
  anyRun?: true
  /** Lines that this run printed. */
  printed?: string
  /** Samples of what this run's machine does. */
  sampled?: string
  /** Acts: on models, artifacts, people, everything that the journal tells. */
  acts?: true
}

type Head = { is: string; project: string | null; stale: Staleness | 'never' }

const key = (is: string, project: string | null, stale: Staleness | 'never', ...more: readonly unknown[]) =>
  [{ is, project, stale } satisfies Head, ...more] as const

const ofExperiment = (project: string, experiment: string, is: string, ...more: readonly unknown[]) =>
  key(is, project, { experiment }, experiment, ...more)
const ofActs = (project: string, is: string, ...more: readonly unknown[]) =>
  key(is, project, { acts: true }, ...more)
const lasting = (is: string, project: string | null, ...more: readonly unknown[]) =>
  key(is, project, 'never', ...more)
/** A run's page shows its output and samples only once it knows that there are any. */
const ofRun = (project: string, is: string, run: string, ...more: readonly unknown[]) =>
  key(is, project, { runs: [run], printed: run, sampled: run }, run, ...more)

export const keys = {
  me: () => lasting('me', null),
  today: (since: string | null) => key('today', null, { anyRun: true, acts: true }, since),
  projects: () => lasting('projects', null),
  members: (project: string) => lasting('members', project),
  experiments: (project: string) => key('experiments', project, { anyRun: true }),
  journal: (project: string, subject: string | null) => ofActs(project, 'journal', subject),

  summary: (project: string, experiment: string) => ofExperiment(project, experiment, 'summary'),
  runs: (project: string, experiment: string, ...asked: unknown[]) =>
    ofExperiment(project, experiment, 'runs', ...asked),
  groups: (project: string, experiment: string, ...asked: unknown[]) =>
    ofExperiment(project, experiment, 'groups', ...asked),
  groupRuns: (project: string, experiment: string, ...asked: unknown[]) =>
    ofExperiment(project, experiment, 'runs of a group', ...asked),
  facets: (project: string, experiment: string) => ofExperiment(project, experiment, 'facets'),
  facet: (project: string, experiment: string, ...asked: unknown[]) =>
    ofExperiment(project, experiment, 'facet', ...asked),
  effects: (project: string, experiment: string, ...asked: unknown[]) =>
    ofExperiment(project, experiment, 'effects', ...asked),
  columns: (project: string, experiment: string, asked: unknown) =>
    ofExperiment(project, experiment, 'columns', asked),
  offers: (project: string, experiment: string, text: string) => lasting('offers', project, experiment, text),

  views: (project: string) => lasting('views', project),
  viewsOf: (project: string, experiment: string) => lasting('views', project, 'of', experiment),
  links: (project: string) => lasting('views', project, 'links'),
  embedding: (project: string) => lasting('views', project, 'embedding'),
  found: (text: string, project: string | undefined) => lasting('found', null, text, project),
  link: (secret: string, ...asked: unknown[]) => lasting('link', null, secret, ...asked),

  run: (project: string, run: string) => ofRun(project, 'run', run),
  notes: (project: string, of: string) =>
    // What has a mark in its name is no run.
    /[:@]/.test(of) ? ofActs(project, 'notes', of) : ofRun(project, 'notes', of),
  output: (project: string, run: string, ...asked: unknown[]) =>
    key('output', project, { printed: run }, run, ...asked),
  resources: (project: string, run: string, width: number) =>
    key('resources', project, { sampled: run }, run, width),
  surroundings: (project: string, run: string, against: string | null) =>
    key('surroundings', project, {}, run, against),
  curves: (project: string, runs: readonly string[], ...asked: unknown[]) =>
    key('curves', project, { runs }, runs, ...asked),
  comparison: (project: string, runs: readonly string[], ...asked: unknown[]) =>
    key('comparison', project, { runs }, runs, ...asked),
  kept: (project: string, runs: readonly string[]) => ofActs(project, 'kept', runs),
  plots: (project: string, ...asked: unknown[]) => ofActs(project, 'plots', ...asked),

  artifacts: (project: string) => ofActs(project, 'artifacts'),
  artifact: (project: string, artifact: string) => ofActs(project, 'artifact', artifact),
  version: (project: string, artifact: string, version: string) =>
    ofActs(project, 'artifact version', artifact, version),
  uses: (project: string, digest: string | null) => ofActs(project, 'uses', digest),
  lineage: (project: string, asked: unknown) => ofActs(project, 'lineage', asked),
  storage: (project: string) => ofActs(project, 'storage'),
  purge: (project: string, things: readonly string[] | null) => ofActs(project, 'purge', things),
  bin: (project: string) => ofActs(project, 'bin'),
  /** What lies in versions never changes. */
  files: (project: string, ...asked: unknown[]) => lasting('files', project, ...asked),

  models: (project: string, ...asked: unknown[]) => ofActs(project, 'models', ...asked),
  model: (project: string, model: string) => ofActs(project, 'model', model),
  modelVersion: (project: string, model: string, version: string) =>
    ofActs(project, 'model version', model, version),
  review: (project: string, model: string, ...asked: unknown[]) => ofActs(project, 'review', model, ...asked),
  fetches: (project: string, model: string) => ofActs(project, 'fetches', model),
  account: () => lasting('account', null),
  sessions: () => lasting('account', null, 'sessions'),
  tokens: () => lasting('tokens', null),
  people: () => lasting('people', null),
  settings: (project: string) => lasting('settings', project),
  secrets: (project: string) => lasting('settings', project, 'secrets'),
  machineTokens: (project: string) => lasting('settings', project, 'tokens'),
  wholeJournal: (...asked: unknown[]) => lasting('whole journal', null, ...asked),
  projectJournal: (project: string, ...asked: unknown[]) => ofActs(project, 'journal', ...asked),
  instance: () => lasting('instance', null),
  deletedProjects: () => lasting('instance', null, 'deleted projects'),
  waysIn: () => lasting('ways in', null),
  welcome: (secret: string) => lasting('welcome', null, secret),

  gateKinds: () => lasting('gate kinds', null),
}

const headOf = (queryKey: QueryKey) => queryKey[0] as Head

/** Whether a reading is of what goes on in a project: an act of one's own makes all of it stale. */
export const isInProject = (queryKey: QueryKey, project: string) =>
  headOf(queryKey).project === project && headOf(queryKey).stale !== 'never'

/** Whether a reading is of who one is. */
export const isOfMe = (queryKey: QueryKey) => headOf(queryKey).is === 'me'

/** What changed since the last reading. */
export type Changes = {
  runs: ReadonlySet<string>
  experiments: ReadonlySet<string>
  printed: ReadonlySet<string>
  sampled: ReadonlySet<string>
  acts: boolean
}

/** Whether changes of a project make a reading stale. */
export function isTouched(queryKey: QueryKey, project: string, changes: Changes): boolean {
  const { project: of, stale } = headOf(queryKey)
  if (stale === 'never' || (of !== null && of !== project)) return false
  return (
    (stale.runs?.some((run) => changes.runs.has(run)) ?? false) ||
    (stale.experiment !== undefined && changes.experiments.has(stale.experiment)) ||
    (stale.anyRun !== undefined && changes.runs.size > 0) ||
    (stale.printed !== undefined && changes.printed.has(stale.printed)) ||
    (stale.sampled !== undefined && changes.sampled.has(stale.sampled)) ||
    (stale.acts !== undefined && changes.acts)
  )
}
