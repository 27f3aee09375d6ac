/** One key over the runs that fit: range and frequent values, each a click away from the query. */
import { useState, type FormEvent } from 'react'
import { useFacet, useFacets } from '../../../api/finding'
import { Modal } from '../../../parts/Modal'
import { plural, show } from '../../../parts/values'
import { both } from '../words'

type Props = {
  place: { project: string; experiment: string }
  query: string
  name: string | null
  onName: (name: string) => void
  onAsk: (query: string) => void
  onClose: () => void
}

const WRITTEN = { value: 'metric:', param: 'param:', label: 'label:' }

export function FilterDialog({ place, query, name, onName, onAsk, onClose }: Props) {
  const { project, experiment } = place
  const facets = useFacets(project, experiment, true)
  const facet = useFacet(project, experiment, name, query)
  const ask = (test: string) => onAsk(both(query, test))
  const names = [
    ...(facets.data?.keys ?? []).map((key) => ({
      text: WRITTEN[key.scope as keyof typeof WRITTEN] + quoted(key.name),
      shown: key.name,
      about:
        key.low === null || key.high === null
          ? key.kinds.includes('text') ? 'texts' : ''
          : key.low === key.high ? show(key.low) : `${show(key.low)} to ${show(key.high)}`,
    })),
    ...(facets.data?.fields ?? []).map((field) => ({ text: field, shown: field, about: 'of the run' })),
  ] // prettier-ignore
  return (
    <Modal title="Filter" onClose={onClose} wide>
      <div className="grid grid-cols-[260px_1fr] gap-6">
        <ul aria-label="Keys" className="max-h-[56vh] overflow-auto text-xs">
          {names.map((each) => (
            <li key={each.text}>
              <button
                aria-pressed={each.text === name}
                className={`flex w-full items-baseline gap-2 px-2 py-[3px] text-left ${each.text === name ? 'bg-soft' : 'hover:bg-bg'}`}
                onClick={() => onName(each.text)}
              >
                <span className="truncate">{each.shown}</span>
                <span className="ml-auto whitespace-nowrap text-2xs text-ink3">{each.about}</span>
              </button>
            </li>
          ))}
        </ul>
        <div className="min-w-0 text-xs">
          {name === null && <p className="text-ink2">Choose what to filter by.</p>}
          {facet.error && (
            <p role="alert" className="text-bad">
              {facet.error.message}
            </p>
          )}
          {name !== null && facet.data && <Held key={name} facet={facet.data} name={name} onAsk={ask} />}
        </div>
      </div>
    </Modal>
  )
}

const quoted = (name: string) => (/^[\w/.-]+$/.test(name) ? name : `"${name}"`)

type Facet = NonNullable<ReturnType<typeof useFacet>['data']>

function Held({ facet, name, onAsk }: { facet: Facet; name: string; onAsk: (test: string) => void }) {
  const most = Math.max(1, ...facet.values.map((each) => each.runs))
  const of = `${facet.of_runs.toLocaleString('en')}${facet.of_runs_is_capped ? '+' : ''}`
  return (
    <>
      <p className="mb-2 text-ink2">
        <b className="strong">{facet.column.name}</b>: {facet.runs.toLocaleString('en')} of {of} runs have it
        {facet.nans > 0 ? `, ${facet.nans} of them NaN` : ''}.
      </p>
      {facet.low !== null && facet.high !== null && (
        <RangeForm
          low={facet.low}
          high={facet.high}
          onRange={(low, high) => onAsk(`${name} in ${low}..${high}`)}
        />
      )}
      <ul aria-label="Values" className="max-h-[40vh] overflow-auto">
        {facet.values.map((each) => (
          <li key={each.query} className="flex items-center gap-3 py-px">
            <button className="link w-[220px] truncate text-left" onClick={() => onAsk(each.query)}>
              {show(each.value) || '(empty)'}
            </button>
            <span
              className="h-2 shrink-0 bg-line2"
              style={{ width: `${(each.runs / most) * 140}px` }}
              aria-hidden
            />
            <span className="text-ink3">{plural(each.runs, 'run')}</span>
          </li>
        ))}
      </ul>
      {facet.values_left_out > 0 && (
        <p className="lab mt-1">{plural(facet.values_left_out, 'other value')}, less frequent.</p>
      )}
      <p className="mt-3 flex gap-2">
        <button className="btn" onClick={() => onAsk(`has ${name}`)}>
          Has one
        </button>
        <button className="btn" onClick={() => onAsk(`not has ${name}`)}>
          Has none
        </button>
        {facet.nans > 0 && (
          <button className="btn" onClick={() => onAsk(`${name} is nan`)}>
            Is NaN
          </button>
        )}
      </p>
    </>
  )
}

function RangeForm(props: { low: number; high: number; onRange: (low: string, high: string) => void }) {
  const [low, setLow] = useState(String(props.low))
  const [high, setHigh] = useState(String(props.high))
  const submit = (event: FormEvent) => {
    event.preventDefault()
    props.onRange(low.trim(), high.trim())
  }
  return (
    <form onSubmit={submit} className="mb-3 flex items-end gap-2">
      {(
        [
          ['from', low, setLow],
          ['to', high, setHigh],
        ] as const
      ).map(([name, value, set]) => (
        <label key={name} className="flex flex-col text-2xs text-ink3">
          {name}
          <input
            className="field mono h-6 w-32"
            inputMode="decimal"
            value={value}
            onChange={(event) => set(event.target.value)}
          />
        </label>
      ))}
      <button className="btn">In this range</button>
    </form>
  )
}
