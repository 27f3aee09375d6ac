/** Choices that every chart of curves offers; they live in the address. */
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/react'
import { useCallback, useMemo } from 'react'
import type { Axis, Zoom } from '../charts/arrange'
import { matcher } from './filter'
import { useAddress } from './selection'

export type Choices = {
  axis: Axis
  /** The metric on the x axis, where that is chosen. */
  against: string | null
  log: boolean
  smoothing: number
  zoom: Zoom | null
  only: string
  /** Tells whether a series or metric of this name is to be drawn. */
  fits: (name: string) => boolean
}

const AGAINST = 'metric:'
const OWN = ['x', 'scale', 'smooth', 'zoom', 'only']

function readZoom(text: string | null): Zoom | null {
  const [low, high] = (text ?? '').split('..').map(Number)
  return low !== undefined && high !== undefined && low < high ? [low, high] : null
}

export function useChartChoices(): Choices {
  const { params } = useAddress()
  const x = params.get('x') ?? 'step'
  const smoothing = Number(params.get('smooth') ?? 0)
  const zoomed = params.get('zoom')
  const only = params.get('only') ?? ''
  const zoom = useMemo(() => readZoom(zoomed), [zoomed])
  const fits = useMemo(() => matcher(only).fits, [only])
  const against = x.startsWith(AGAINST) ? x.slice(AGAINST.length) : null
  return {
    axis: against !== null ? 'metric' : x === 'elapsed' || x === 'clock' ? x : 'step',
    against,
    log: params.get('scale') === 'log',
    smoothing: smoothing >= 0 && smoothing < 1 ? smoothing : 0,
    zoom,
    only,
    fits,
  }
}

export function useZoom(): (zoom: Zoom | null) => void {
  const { change } = useAddress()
  return useCallback(
    (zoom: Zoom | null) =>
      change('zoom', zoom ? zoom.map((edge) => Number(edge.toPrecision(12))).join('..') : null),
    [change],
  )
}

export function ChartChoices({
  choices,
  metrics,
  what,
}: {
  choices: Choices
  metrics: string[]
  /** What the filter chooses among: metrics or runs. */
  what: string
}) {
  const { params, change, changeAll } = useAddress()
  const wrong = matcher(choices.only).error
  const chosen = OWN.some((name) => params.has(name))
  const chooseAxis = (value: string) => changeAll({ x: value === 'step' ? null : value, zoom: null })
  return (
    <>
      <label className="flex items-center gap-1">
        x
        <select
          aria-label="x axis"
          className="field max-w-32 py-0 text-xs"
          value={choices.against !== null ? AGAINST + choices.against : choices.axis}
          onChange={(event) => chooseAxis(event.target.value)}
        >
          <option value="step">step</option>
          <option value="elapsed">elapsed</option>
          <option value="clock">clock</option>
          {metrics.slice(0, 200).map((name) => (
            <option key={name} value={AGAINST + name}>
              {name}
            </option>
          ))}
        </select>
      </label>
      <label className="flex items-center gap-1">
        <input
          type="checkbox"
          checked={choices.log}
          onChange={(event) => change('scale', event.target.checked ? 'log' : null)}
        />
        log
      </label>
      <label className="flex items-center gap-1.5">
        smooth
        <input
          type="range"
          min="0"
          max="0.95"
          step="0.05"
          className="w-16 accent-(--accent)"
          value={choices.smoothing}
          onChange={(event) => change('smooth', Number(event.target.value) ? event.target.value : null)}
        />
        <span className="w-7">{choices.smoothing.toFixed(2)}</span>
      </label>
      <input
        aria-label={`Filter ${what} by glob or /regular expression/`}
        aria-invalid={wrong !== null}
        title={wrong ?? 'val/* or /^val/'}
        className="field mono w-24 py-0 text-xs"
        placeholder={`${what}: *`}
        value={choices.only}
        onChange={(event) => change('only', event.target.value || null)}
        spellCheck={false}
      />
      <button
        className="btn leading-[18px]"
        disabled={!chosen}
        onClick={() => changeAll(Object.fromEntries(OWN.map((name) => [name, null])))}
      >
        Reset
      </button>
    </>
  )
}

type Saves = Record<string, (() => void) | string>

/** Take a chart along; not before it is drawn, or an empty one would be saved. */
export function SaveMenu({ title, ready, saves }: { title: string; ready: boolean; saves: Saves }) {
  return (
    <Menu>
      <MenuButton className="btn leading-[18px]" aria-label={`Save ${title}`} disabled={!ready}>
        Save ▾
      </MenuButton>
      <MenuItems
        anchor="bottom end"
        className="z-20 mt-1 rounded-[3px] border border-line2 bg-surface py-1 text-xs shadow-md focus:outline-none"
      >
        {Object.entries(saves).map(([name, save]) => (
          <MenuItem key={name}>
            {typeof save === 'string' ? (
              <a className="block px-3 py-1 data-focus:bg-soft" href={save} download>
                {name}
              </a>
            ) : (
              <button className="block w-full px-3 py-1 text-left data-focus:bg-soft" onClick={save}>
                {name}
              </button>
            )}
          </MenuItem>
        ))}
      </MenuItems>
    </Menu>
  )
}
