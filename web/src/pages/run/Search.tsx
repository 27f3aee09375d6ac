/** A run that others were tried under: the space and the budget it was given, how the best came, what was tried where. */
import { useCallback, useMemo } from 'react'
import { useNavigate } from 'react-router'
import type { RunDetail } from '../../api/client'
import { useDrawn, type Drawn, type DrawnColumn } from '../../api/comparing'
import { RunsChart } from '../../charts/RunsChart'
import { isNumeric } from '../../charts/drawnColumns'
import { cloudOption, overOption, withoutPlace } from '../../charts/runsOption'
import { Section } from '../../parts/Marks'
import { plural, show } from '../../parts/values'
import { columnText } from '../experiment/columns'
import { DataTable } from '../../parts/DataTable'

const HEIGHT = 220
const SHOWN = 2_000
const NONE = new Map<string, number>()

const differing = (run: RunDetail) =>
  [...new Set(run.children.flatMap((child) => Object.keys(child.params)))].filter(
    (key) =>
      key !== 'seed' && new Set(run.children.map((child) => JSON.stringify(child.params[key]))).size > 1,
  )

export function Search({ run }: { run: RunDetail }) {
  const goal = run.goals.find(({ key }) => run.children.some((child) => key in child.values))
  if (!goal || run.children.length < 2) return null
  return <Tried run={run} goal={goal.key} settings={differing(run)} />
}

function Tried({ run, goal, settings }: { run: RunDetail; goal: string; settings: string[] }) {
  const navigate = useNavigate()
  const known = [
    ...settings.map((name) => ({ scope: 'param', name })),
    ...run.goals.map(({ key }) => ({ scope: 'value', name: key })),
  ]
  const texts = known.map((column) => columnText(column, known))
  const y = columnText({ scope: 'value', name: goal }, known)
  const { data: drawn } = useDrawn(run.project, run.experiment, {
    column: texts, query: `parent = ${run.reference}`, sort: 'number:asc', pareto: '',
  }) // prettier-ignore
  const value = drawn?.columns.find((column) => column.text === y)
  const [one, two] = texts
    .slice(0, settings.length)
    .map((text) => drawn?.columns.find((each) => each.text === text))
  const open = (at: number) => {
    const reference = drawn?.runs[at]?.reference
    if (reference) void navigate(`/${run.project}/e/${reference}`)
  }
  if (!drawn || !value) return null
  return (
    <>
      <Section
        className="col-span-6 min-w-0"
        title={`${goal} over the search`}
        fact="the line is the best so far"
      >
        <Over drawn={drawn} y={value} bound={value.goal?.bound ?? null} onOpen={open} />
        <Given run={run} drawn={drawn} />
      </Section>
      {one && (
        <Section
          className="col-span-6 min-w-0"
          title="What was tried where"
          fact={two ? `larger dots: higher ${goal}` : goal}
        >
          <Where drawn={drawn} x={one} y={two ?? value} colour={two ? value : null} onOpen={open} />
        </Section>
      )}
    </>
  )
}

function Over(props: { drawn: Drawn; y: DrawnColumn; bound: number | null; onOpen: (at: number) => void }) {
  const { drawn, y, bound, onOpen } = props
  const option = useCallback(() => overOption(drawn, y, false, NONE, bound), [drawn, y, bound])
  return (
    <RunsChart
      option={option}
      name={`${y.name} over ${plural(drawn.runs.length, 'run')}`}
      height={HEIGHT}
      onOpen={onOpen}
    />
  )
}

type WhereProps = {
  drawn: Drawn
  x: DrawnColumn
  y: DrawnColumn
  colour: DrawnColumn | null
  onOpen: (at: number) => void
}

function Where({ drawn, x, y, colour, onOpen }: WhereProps) {
  const cloud = useMemo(
    () => ({ drawn, x, y, colour, size: colour, logX: false, logY: false, slots: NONE, front: null }),
    [drawn, x, y, colour],
  )
  const option = useCallback(() => cloudOption(cloud), [cloud])
  return (
    <RunsChart
      option={option}
      name={`${y.name} by ${x.name}, ${plural(drawn.runs.length - withoutPlace(cloud), 'run')}`}
      height={HEIGHT}
      onOpen={onOpen}
    />
  )
}

/** Settings of the search itself: `space.KEY` says where it looks, `budget.KEY` how long. */
function Given({ run, drawn }: { run: RunDetail; drawn: Drawn }) {
  const given = Object.entries(run.params).filter(([key]) => /^(space|budget)\./.test(key))
  if (given.length === 0) return null
  return (
    <DataTable
      label="Space and budget"
      rows={given}
      keyOf={([key]) => key}
      line="h-6 border-b border-line"
      columns={[
        { name: 'key', heads: true, className: 'mono', cell: ([key]) => key },
        { name: 'value', className: 'pl-3', cell: ([, value]) => show(value) },
        {
          name: 'tried',
          right: true,
          className: 'pl-3 text-ink3',
          cell: ([key, value]) => saidOf(key, value, run, drawn),
        },
      ]}
    />
  )
}

function saidOf(key: string, value: unknown, run: RunDetail, drawn: Drawn): string {
  if (key === 'budget.runs' && typeof value === 'number') {
    const done = run.children.length
    return `${done}${done >= SHOWN ? '+' : ''} of ${value} runs begun`
  }
  const column = drawn.columns.find((one) => one.scope === 'param' && `space.${one.name}` === key)
  if (!column) return ''
  const tried = new Set(column.values.filter((one) => one !== null).map((one) => show(one)))
  if (Array.isArray(value)) {
    const met = value.filter((one) => tried.has(show(one))).length
    return `${met} of ${plural(value.length, 'value')} tried`
  }
  return isNumeric(column) ? `${plural(tried.size, 'value')} tried` : ''
}
