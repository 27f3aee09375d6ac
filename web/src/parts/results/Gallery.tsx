/** Images of a version: a few as they are, many as small pictures that open. */
import { useState } from 'react'
import { thumbnailAddress, type ShownItem } from '../../api/results'
import { Modal } from '../Modal'
import { plural } from '../values'
import { LayerChoices, Picture, type Layers, type Place } from './Picture'

/** Up to so many are shown as they are. */
const WHOLE = 2
const FIND_FROM = 13

export function Gallery({ place, items, layers }: { place: Place; items: ShownItem[]; layers: Layers }) {
  const [open, setOpen] = useState<number | null>(null)
  const [find, setFind] = useState('')
  if (items.length <= WHOLE) {
    return (
      <div className="flex flex-wrap gap-3">
        {items.map((item) => (
          <figure key={item.file} className="max-w-full min-w-0">
            <Picture place={place} item={item} layers={layers} />
            {item.caption && <figcaption className="text-xs text-ink2">{item.caption}</figcaption>}
          </figure>
        ))}
      </div>
    )
  }
  const wanted = find.toLowerCase()
  const fitting = items
    .map((item, at) => ({ item, at }))
    .filter(({ item }) => !wanted || `${item.caption} ${item.file}`.toLowerCase().includes(wanted))
  return (
    <div>
      {items.length >= FIND_FROM && (
        <p className="flex items-center gap-3 py-1 text-xs">
          <input
            aria-label="Find images by caption"
            className="field w-44 py-0 text-xs"
            placeholder="find by caption"
            value={find}
            spellCheck={false}
            onChange={(event) => setFind(event.target.value)}
          />
          <span className="lab">
            {fitting.length < items.length
              ? `${fitting.length} of ${plural(items.length, 'image')}`
              : plural(items.length, 'image')}
          </span>
        </p>
      )}
      <ul
        tabIndex={0}
        aria-label="Images"
        className="grid max-h-[460px] gap-2 overflow-auto"
        style={{
          gridTemplateColumns: `repeat(auto-fill, minmax(${items.length < FIND_FROM ? 150 : 112}px, 1fr))`,
        }}
      >
        {fitting.map(({ item, at }) => (
          <li key={item.file} className="min-w-0">
            <Small place={place} item={item} onOpen={() => setOpen(at)} />
          </li>
        ))}
      </ul>
      {open !== null && (
        <Large
          place={place}
          items={items}
          at={open}
          onGo={setOpen}
          layers={layers}
          onClose={() => setOpen(null)}
        />
      )}
    </div>
  )
}

function Small({ place, item, onOpen }: { place: Place; item: ShownItem; onOpen: () => void }) {
  const [broken, setBroken] = useState(false)
  const marks = [
    item.boxes.length ? plural(item.boxes.length, 'box', 'boxes') : '',
    item.masks.length ? plural(item.masks.length, 'mask') : '',
  ].filter(Boolean)
  return (
    <button className="block w-full text-left" onClick={onOpen}>
      <span className="sr-only">Open </span>
      {broken ? (
        <span className="lab grid h-[84px] place-items-center border border-dashed border-line">
          cannot be shown
        </span>
      ) : (
        <img
          className="h-[84px] w-full bg-bg object-contain"
          style={{ imageRendering: 'auto' }}
          loading="lazy"
          src={thumbnailAddress(place.project, place.artifact, place.version, item.file)}
          alt=""
          onError={() => setBroken(true)}
        />
      )}
      <span className="block truncate text-2xs text-ink2" title={item.caption || item.file}>
        {item.caption || item.file}
      </span>
      {marks.length > 0 && <span className="block text-2xs text-ink3">{marks.join(', ')}</span>}
    </button>
  )
}

function Large(props: {
  place: Place
  items: ShownItem[]
  at: number
  layers: Layers
  onGo: (at: number) => void
  onClose: () => void
}) {
  const { place, items, at, onGo, onClose } = props
  const [layers, setLayers] = useState(props.layers)
  const item = items[at]
  if (!item) return null
  const go = (by: number) => onGo((at + by + items.length) % items.length)
  return (
    <Modal title={`${item.file}, ${at + 1} of ${items.length}`} onClose={onClose} wide>
      <div
        onKeyDown={(event) => {
          if (event.key === 'ArrowRight') go(1)
          if (event.key === 'ArrowLeft') go(-1)
        }}
      >
        <p className="flex items-center gap-2 pb-1 text-xs">
          <button className="btn" onClick={() => go(-1)} autoFocus>
            ← Previous
          </button>
          <button className="btn" onClick={() => go(1)}>
            Next →
          </button>
        </p>
        <LayerChoices items={[item]} layers={layers} onChange={setLayers} />
        <Picture key={item.file} place={place} item={item} layers={layers} alone />
        {item.caption && <p className="py-1 text-sm whitespace-pre-wrap">{item.caption}</p>}
      </div>
    </Modal>
  )
}
