/** An image as it was kept, with boxes and masks over it that can be shown and hidden. */
import { useEffect, useRef, useState } from 'react'
import { fileAddress } from '../../api/data'
import type { ShownItem } from '../../api/results'
import { look, resolved } from '../looks'
import { useTheme } from '../theme'
import { show } from '../values'

export type Place = { project: string; artifact: string; version: number }
export type Layers = { boxes: boolean; masks: Record<string, boolean> }

/** Small pictures are shown larger, pixel by pixel. */
const SHOWN = { beside: 320, alone: 720 }

export function Picture(props: { place: Place; item: ShownItem; layers: Layers; alone?: boolean }) {
  const { place, item, layers, alone = false } = props
  const [size, setSize] = useState<[number, number] | null>(null)
  const [broken, setBroken] = useState(false)
  const address = (path: string) => fileAddress(place.project, place.artifact, place.version, path, true)
  if (broken) {
    return (
      <p className="lab grid h-24 place-items-center border border-dashed border-line" role="status">
        {item.file} cannot be shown.
      </p>
    )
  }
  const wanted = alone ? SHOWN.alone : SHOWN.beside
  const small = size !== null && Math.max(...size) < wanted / 1.5
  const scale = size && small ? wanted / Math.max(...size) : 1
  return (
    <div
      className="relative inline-block max-w-full align-top"
      style={size && small ? { width: size[0] * scale } : undefined}
    >
      <img
        className="block max-h-[70vh] w-full max-w-full bg-bg"
        style={small ? { imageRendering: 'pixelated' } : undefined}
        src={address(item.file)}
        alt={item.caption || item.file}
        onLoad={(event) => setSize([event.currentTarget.naturalWidth, event.currentTarget.naturalHeight])}
        onError={() => setBroken(true)}
      />
      {size &&
        item.masks
          .filter((mask) => layers.masks[mask.name])
          .map((mask) => <MaskOver key={mask.name} address={address(mask.file)} />)}
      {size && layers.boxes && item.boxes.length > 0 && <BoxesOver item={item} size={size} />}
    </div>
  )
}

const LABELLED = 30

/** Boxes by parts of the image, so that lines and letters are as thick over small images as over large ones. */
function BoxesOver({ item, size }: { item: ShownItem; size: [number, number] }) {
  const labels = [...new Set(item.boxes.map((box) => box.label))]
  const part = (of: number, whole: number) => `${(100 * of) / whole}%`
  return (
    <div className="pointer-events-none absolute inset-0 overflow-hidden" aria-hidden>
      {item.boxes.map((box, at) => {
        const colour = look(labels.indexOf(box.label) + 1).colour
        const text = `${box.label}${box.score === null ? '' : ` ${show(box.score)}`}`.trim()
        return (
          <div
            key={at}
            className="absolute"
            style={{
              left: part(box.x, size[0]),
              top: part(box.y, size[1]),
              width: part(box.width, size[0]),
              height: part(box.height, size[1]),
              boxShadow: `inset 0 0 0 2px ${colour}, inset 0 0 0 3px var(--surface)`,
            }}
          >
            {text && item.boxes.length <= LABELLED && (
              <span
                className={`absolute left-0 bg-surface px-0.5 text-[10px] leading-3 whitespace-nowrap text-ink ${box.y < size[1] * 0.06 ? 'top-full' : 'bottom-full'}`}
                style={{ borderLeft: `3px solid ${colour}` }}
              >
                {text}
              </span>
            )}
          </div>
        )
      })}
    </div>
  )
}

/** The colour in which a class of a mask is laid over an image. */
export const classColour = (number: number) => look(((number - 1) % 8) + 1).colour

function MaskOver({ address }: { address: string }) {
  const canvas = useRef<HTMLCanvasElement>(null)
  const theme = useTheme()
  useEffect(() => {
    let gone = false
    const image = new Image()
    image.onload = () => {
      const target = canvas.current
      const ctx = target?.getContext('2d')
      if (gone || !target || !ctx) return
      target.width = image.naturalWidth
      target.height = image.naturalHeight
      ctx.drawImage(image, 0, 0)
      const pixels = ctx.getImageData(0, 0, target.width, target.height)
      colourClasses(pixels.data)
      ctx.putImageData(pixels, 0, 0)
    }
    image.src = address
    return () => {
      gone = true
    }
  }, [address, theme])
  return (
    <canvas
      ref={canvas}
      className="pointer-events-none absolute inset-0 h-full w-full"
      style={{ imageRendering: 'pixelated' }}
      aria-hidden
    />
  )
}

function colourClasses(data: Uint8ClampedArray) {
  const colours = new Map<number, [number, number, number]>()
  for (let at = 0; at < data.length; at += 4) {
    const number = data[at] ?? 0
    let colour = colours.get(number)
    if (!colour) {
      const hex = resolved(classColour(number))
      colour = [1, 3, 5].map((from) => parseInt(hex.slice(from, from + 2), 16)) as [number, number, number]
      colours.set(number, colour)
    }
    data[at] = colour[0]
    data[at + 1] = colour[1]
    data[at + 2] = colour[2]
    data[at + 3] = number === 0 ? 0 : 140
  }
}

/** Which layers lie over images, with the names of what their colours mean. */
export function LayerChoices(props: {
  items: ShownItem[]
  layers: Layers
  onChange: (layers: Layers) => void
}) {
  const { items, layers, onChange } = props
  const masks = [...new Set(items.flatMap((item) => item.masks.map((mask) => mask.name)))]
  const boxes = items.some((item) => item.boxes.length > 0)
  const classes = new Map<number, string>()
  for (const item of items)
    for (const mask of item.masks)
      for (const [number, name] of Object.entries(mask.classes))
        if (Number(number)) classes.set(Number(number), name)
  if (!boxes && masks.length === 0) return null
  return (
    <p className="flex flex-wrap items-center gap-x-3 py-1 text-xs text-ink2">
      {boxes && (
        <label className="flex items-center gap-1">
          <input
            type="checkbox"
            checked={layers.boxes}
            onChange={(event) => onChange({ ...layers, boxes: event.target.checked })}
          />
          boxes
        </label>
      )}
      {masks.map((name) => (
        <label key={name} className="flex items-center gap-1">
          <input
            type="checkbox"
            checked={layers.masks[name] ?? false}
            onChange={(event) =>
              onChange({ ...layers, masks: { ...layers.masks, [name]: event.target.checked } })
            }
          />
          mask {name}
        </label>
      ))}
      {[...classes].slice(0, 12).map(([number, name]) => (
        <span key={number} className="flex items-center gap-1">
          <svg width="10" height="10" aria-hidden>
            <rect width="10" height="10" fill={classColour(number)} />
          </svg>
          {name}
        </span>
      ))}
    </p>
  )
}
