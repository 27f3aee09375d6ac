/** Curves drawn by the choices that live in the address, zoomed there, and ready to be taken along as a picture. */
import type { RefObject } from 'react'
import { Curves, type Series } from '../charts/Curves'
import { useZoom, type Choices } from './ChartChoices'

export function ChosenCurves(props: {
  series: Series[]
  title: string
  height: number
  bound?: number | null
  choices: Choices
  canvas: RefObject<HTMLCanvasElement | null>
  onOpen?: (name: string) => void
  waiting: boolean
}) {
  const { choices, canvas, ...rest } = props
  const zoomTo = useZoom()
  return (
    <Curves
      {...rest}
      onZoom={zoomTo}
      onDrawn={(drawn) => {
        canvas.current = drawn
      }}
      axis={choices.axis}
      log={choices.log}
      smoothing={choices.smoothing}
      zoom={choices.zoom}
    />
  )
}
