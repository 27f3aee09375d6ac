/** The sentence that opens an experiment: which run leads, and whether by more than noise. */
import { useState } from 'react'
import { useQuery } from '@tanstack/react-query'
import type { Schemas } from '../../api/client'
import { useComparison, type Comparison } from '../../api/comparing'
import { groupsPage } from '../../api/finding'
import { useProjects } from '../../api/queries'
import { Key } from '../../parts/Marks'
import { NotesDialog } from '../../parts/Notes'
import { Answer } from '../../parts/Shell'
import type { Selection } from '../../parts/selection'
import { plural, runsNeeded, show } from '../../parts/values'
import { word } from './words'

type Summary = Schemas['Experiment']

/** How the best two settings compare, over all their replicates: whether the lead is more than noise. */
function useNoise(project: string, summary: Summary): string {
  const key = summary.goals[0]?.key
  const asked = {
    query: 'status = finished',
    sort: key ? word(key) : '',
    column: key ? [word(key)] : [],
    fold: false,
    key: [],
    pareto: '',
  }
  const groups = useQuery({
    ...groupsPage(project, summary.name, 'replicates', asked, 0),
    enabled: key !== undefined && summary.runs > 1 && summary.runs <= TOLD_OF,
  })
  const best = groups.data?.groups.slice(0, 2).map((group) => group.last.reference) ?? []
  const { data } = useComparison(project, best, 1, false)
  return data && key ? saidOfLead(data, key) : 'The best finished run by its first goal.'
}

function saidOfLead(data: Comparison, key: string): string {
  const [one, two] = data.runs
  const row = data.outcomes.find((each) => each.key === key)
  const change = row?.changes[0]
  if (!one || !two) return ''
  // What came out level is hidden from the comparison: level values do not say that the two are the same.
  if (!row || !change)
    return `The next setting (${two.label}) came out level on ${key}, which does not tell whether the two differ.`
  const many = one.replicates.length > 1 ? ` over ${one.replicates.length} seeds` : ''
  const told = `${one.label} has ${show(row.values[0])}${many}, the next setting (${two.label}) ${show(row.values[1])}`
  const { beyond, needed } = change.difference
  const more = needed ? `; ${runsNeeded(needed)} runs each would tell` : ''
  if (beyond === null) return `${told}: one run each, noise is unknown${more}.`
  return `${told}: ${beyond ? 'more than noise' : `within noise${more}`}.`
}

/** Of larger experiments the best two settings are not looked for anew with every change. */
const TOLD_OF = 5_000

function NotesButton({ project, experiment }: { project: string; experiment: string }) {
  const [open, setOpen] = useState(false)
  const role = useProjects().data?.find((row) => row.name === project)?.role
  const of = `experiment:${experiment}`
  return (
    <>
      <button className="btn" onClick={() => setOpen(true)}>
        Notes
      </button>
      {open && (
        <NotesDialog
          project={project}
          of={of}
          may={!!role && role !== 'viewer'}
          onClose={() => setOpen(false)}
        />
      )}
    </>
  )
}

export function Leader({
  project,
  summary,
  slotOf,
}: {
  project: string
  summary: Summary
  slotOf: Selection
}) {
  const noise = useNoise(project, summary)
  const goal = summary.goals[0]
  const notes = <NotesButton project={project} experiment={summary.name} />
  const counts = `${plural(summary.runs, 'run')}, ${summary.running} running.`
  if (!goal || !summary.best_run) {
    return (
      <Answer reason={counts} right={notes}>
        <b>No run leads yet</b>
        {goal ? `: none has finished with ${goal.key}.` : ': no goal says which direction is better.'}
      </Answer>
    )
  }
  const number = summary.best_run.split('/')[1] ?? ''
  const slot = slotOf.get(number)
  const unit = goal.unit ? ` ${goal.unit}` : ''
  const met =
    goal.bound === null || goal.bound === undefined
      ? ''
      : `, ${(goal.direction === 'higher' ? Number(summary.best_value) >= goal.bound : Number(summary.best_value) <= goal.bound) ? 'which meets' : 'short of'} the goal of ${goal.bound}${unit}`
  return (
    <Answer reason={`${counts} ${noise}`} right={notes}>
      {slot ? (
        <>
          <Key slot={slot} width={20} />{' '}
        </>
      ) : null}
      <b>
        Run {number} leads on {goal.key}: {show(summary.best_value)}
        {unit}
      </b>
      {met}.
    </Answer>
  )
}
