/** What runs kept under one name: images, sound, video, text or a table, step by step and side by side. */
import { useState } from 'react'
import { Link } from 'react-router'
import { fileAddress } from '../../api/data'
import { useItems, type KeptName, type ShownItem } from '../../api/results'
import { Key } from '../Marks'
import { Preview } from '../Preview'
import { bytes, plural } from '../values'
import { Gallery } from './Gallery'
import { LayerChoices, type Layers, type Place } from './Picture'
import type { ShownRun } from './PlotFigure'
import { StepChoice, stepsOf } from './StepChoice'
import { JoinedTable, TableRows } from './TableRows'

const SIDE_BY_SIDE = 6

/** What a run kept at a step; without one at the last: what was kept without a step stands after all steps. */
function versionOf(kept: KeptName, run: string, step: number | null): number | null {
  const own = kept.steps.filter((found) => found.run === run && (step === null || found.step === step))
  const last = own.reduce<(typeof own)[number] | null>(
    (best, found) => (best === null || (found.step ?? Infinity) >= (best.step ?? Infinity) ? found : best),
    null,
  )
  return last?.version ?? null
}

export function MediaFigure({ project, runs, kept }: { project: string; runs: ShownRun[]; kept: KeptName }) {
  const [step, setStep] = useState<number | null>(null)
  const [layers, setLayers] = useState<Layers | null>(null)
  const having = runs.filter((run) => kept.steps.some((found) => found.run === run.reference))
  const shown = having.slice(0, SIDE_BY_SIDE)
  const steps = stepsOf(kept)
  const versions = shown.map((run) => versionOf(kept, run.reference, step))
  const firstVersion = versions.find((version) => version !== null) ?? null
  const joined = kept.kind === 'table' && shown.length === 2 && versions[0] !== null && versions[1] !== null
  return (
    <figure className="min-w-0 border-b border-line pt-1 pb-2" aria-label={`${kept.kind} ${kept.name}`}>
      <figcaption className="flex items-baseline gap-3">
        <h3 className="truncate text-xs font-semibold" title={kept.name}>
          {kept.name}
        </h3>
        <span className="lab">{kept.kind}</span>
      </figcaption>
      {steps.length > 1 && <StepChoice steps={steps} step={step} onChange={setStep} name={kept.name} />}
      {joined && (
        <JoinedTable
          project={project}
          left={`${kept.name}@${versions[0]}`}
          right={`${kept.name}@${versions[1]}`}
          names={shown.map((run) => run.label)}
        />
      )}
      {kept.kind === 'image' && (
        <SharedLayers
          place={{ project, artifact: kept.name, version: firstVersion ?? 0 }}
          there={firstVersion !== null}
          layers={layers}
          onLayers={setLayers}
        />
      )}
      {!joined && (
        <div
          className="grid gap-x-4 gap-y-2"
          style={{ gridTemplateColumns: `repeat(${Math.min(shown.length, 3)}, minmax(0, 1fr))` }}
        >
          {shown.map((run, at) => (
            <div key={run.reference} className="min-w-0">
              {runs.length > 1 && (
                <p className="text-xs">
                  <Key slot={run.slot} /> <b className="strong">{run.label}</b>
                </p>
              )}
              <OneVersion
                place={{ project, artifact: kept.name, version: versions[at] ?? 0 }}
                there={versions[at] !== null}
                layers={layers}
              />
            </div>
          ))}
        </div>
      )}
      {having.length > shown.length && (
        <p className="lab">
          The first {SIDE_BY_SIDE} of {plural(having.length, 'run')}.
        </p>
      )}
    </figure>
  )
}

/** Masks hide what is under them: the first alone is shown until others are chosen. */
function shownLayers(items: ShownItem[], chosen: Layers | null): Layers {
  const first = items.flatMap((item) => item.masks)[0]?.name
  return chosen ?? { boxes: true, masks: first === undefined ? {} : { [first]: true } }
}

/** What lies over the images of all runs alike. */
function SharedLayers(props: {
  place: Place
  there: boolean
  layers: Layers | null
  onLayers: (layers: Layers) => void
}) {
  const { place, there, layers, onLayers } = props
  const { data } = useItems(place.project, place.artifact, there ? place.version : null)
  if (!data) return null
  return <LayerChoices items={data.items} layers={shownLayers(data.items, layers)} onChange={onLayers} />
}

function OneVersion(props: { place: Place; there: boolean; layers: Layers | null }) {
  const { place, there } = props
  const { data, error } = useItems(place.project, place.artifact, there ? place.version : null)
  if (!there) return <p className="lab py-4">Nothing was kept at this step.</p>
  if (error) return <p className="py-2 text-xs text-ink2">{error.message}</p>
  if (!data) return <p className="lab">Reading …</p>
  const images = data.items.filter((item) => item.kind === 'image')
  const others = data.items.filter((item) => item.kind !== 'image')
  const layers = shownLayers(data.items, props.layers)
  return (
    <>
      {images.length > 0 && <Gallery place={place} items={images} layers={layers} />}
      {others.map((item) => (
        <Other key={item.file} place={place} item={item} />
      ))}
      {data.items.length === 0 && (
        <p className="lab">
          Nothing in it can be shown here.{' '}
          <Link className="link" to={`/${place.project}/data/${place.artifact}?version=${place.version}`}>
            Its files
          </Link>
        </p>
      )}
      {data.note && <p className="text-xs text-bad">{data.note}</p>}
    </>
  )
}

function Other({ place, item }: { place: Place; item: ShownItem }) {
  const [broken, setBroken] = useState(false)
  const address = fileAddress(place.project, place.artifact, place.version, item.file, true)
  const said = item.caption || item.file
  const fail = () => setBroken(true)
  return (
    <div className="py-1">
      {broken && <p className="lab">{item.file} cannot be played by this browser.</p>}
      {item.kind === 'sound' && !broken && (
        <audio
          className="w-full max-w-[480px]"
          controls
          preload="metadata"
          src={address}
          aria-label={said}
          onError={fail}
        />
      )}
      {item.kind === 'video' && !broken && (
        <video
          className="max-h-[360px] w-full max-w-[480px] bg-bg"
          controls
          loop
          muted
          preload="metadata"
          src={address}
          aria-label={said}
          onError={fail}
        />
      )}
      {item.kind === 'text' && (
        <Preview
          project={place.project}
          artifact={place.artifact}
          version={String(place.version)}
          path={item.file}
        />
      )}
      {item.kind === 'table' && (
        <TableRows project={place.project} of={`${place.artifact}@${place.version}:${item.file}`} />
      )}
      {(item.kind === 'sound' || item.kind === 'video') && (
        <p className="text-xs text-ink2">
          {item.caption} <span className="lab">{bytes(item.size)}</span>
        </p>
      )}
    </div>
  )
}
