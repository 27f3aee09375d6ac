/** Arrangements under a name: one's own, the project's, a link for people without an account, a frame in another page. */
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/react'
import { useState, type ReactNode } from 'react'
import { useLocation, useNavigate } from 'react-router'
import { newId } from '../../../api/client'
import {
  useEmbedding,
  useLinks,
  useMakeLink,
  useRemoveView,
  useRevokeLink,
  useSaveView,
  useSetEmbedding,
  useViews,
  type View,
} from '../../../api/finding'
import { DialogForm } from '../../../parts/DialogForm'
import { Modal } from '../../../parts/Modal'
import { toast } from '../../../parts/Toasts'
import { moment } from '../../../parts/values'
import { copy } from './TakeAlong'
import { TextArea } from '../../../parts/TextArea'
import { ADDRESS } from '../../../api/place'

type Place = { project: string; experiment: string }
const ITEM = 'block w-full px-3 py-1 text-left data-focus:bg-soft data-disabled:text-ink3'

/** What is on screen, without which view it came from. */
export function arrangementOf(params: URLSearchParams): Record<string, string> {
  return Object.fromEntries([...params].filter(([name]) => name !== 'view'))
}

const address = ({ project, experiment }: Place, view: View) =>
  `/${project}/e/${experiment}?${new URLSearchParams({ ...view.arrangement, view: view.id })}`

export function ViewsMenu({ place, params }: { place: Place; params: URLSearchParams }) {
  const { data } = useViews(place.project, place.experiment)
  const [asking, setAsking] = useState<'save' | 'link' | 'frame' | null>(null)
  const navigate = useNavigate()
  const save = useSaveView(place.project)
  const remove = useRemoveView(place.project)
  const current = data?.find((view) => view.id === params.get('view'))
  const arrangement = arrangementOf(params)
  const changed =
    current &&
    new URLSearchParams(arrangement).toString() !== new URLSearchParams(current.arrangement).toString()
  const again = () => {
    if (!current) return
    const { id, name, shared, version } = current
    save.mutate(
      { id, name, shared, arrangement, expect: version, experiment: place.experiment },
      {
        onSuccess: (view) => {
          toast(`View ${name} saved.`)
          void navigate(address(place, view), { replace: true })
        },
        onError: (error) => toast(error.message),
      },
    )
  }
  const groups: [string, View[]][] = [
    ['My views', (data ?? []).filter((view) => !view.shared)],
    ['Of the project', (data ?? []).filter((view) => view.shared)],
  ]
  const item = (text: ReactNode, act: () => void, disabled = false) => (
    <MenuItem disabled={disabled}>
      <button className={ITEM} onClick={act}>
        {text}
      </button>
    </MenuItem>
  )
  const close = () => setAsking(null)
  return (
    <>
      <Menu>
        <MenuButton className={`btn h-7 max-w-[180px] truncate ${current ? 'chip-on' : ''}`}>
          {current ? `View: ${current.name}${changed ? ' *' : ''}` : 'Views'} ▾
        </MenuButton>
        <MenuItems
          anchor="bottom end"
          className="z-20 mt-1 max-h-[60vh] max-w-[320px] min-w-[220px] overflow-auto rounded-[3px] border border-line2 bg-surface py-1 text-xs shadow-md focus:outline-none"
        >
          {groups.map(
            ([title, views]) =>
              views.length > 0 && (
                <div key={title}>
                  <p className="lab px-3">{title}</p>
                  {views.map((view) => (
                    <MenuItem key={view.id}>
                      <button className={ITEM} onClick={() => void navigate(address(place, view))}>
                        {view.name} {view.id === current?.id ? '✓' : ''}
                        {!view.mine && <span className="lab ml-2">by {view.author}</span>}
                      </button>
                    </MenuItem>
                  ))}
                </div>
              ),
          )}
          <div className="mt-1 border-t border-line pt-1">
            {item('Save as a view …', () => setAsking('save'))}
            {current && item(`Save ${current.name} as it is now`, again, !changed)}
            {current &&
              item(`Remove ${current.name}`, () =>
                remove.mutate(current.id, {
                  onSuccess: () => toast(`View ${current.name} removed; what is on screen stays.`),
                  onError: (error) => toast(error.message),
                }),
              )}
            {item('Link for people without an account …', () => setAsking('link'))}
            {item('Show in another page …', () => setAsking('frame'))}
          </div>
        </MenuItems>
      </Menu>
      {asking === 'save' && <SaveDialog place={place} arrangement={arrangement} onClose={close} />}
      {asking === 'link' && <LinkDialog place={place} arrangement={arrangement} onClose={close} />}
      {asking === 'frame' && <FrameDialog place={place} onClose={close} />}
    </>
  )
}

type Asking = { place: Place; arrangement: Record<string, string>; onClose: () => void }

function SaveDialog({ place, arrangement, onClose }: Asking) {
  const save = useSaveView(place.project)
  const navigate = useNavigate()
  const [name, setName] = useState('')
  const [shared, setShared] = useState(false)
  const [id] = useState(newId)
  const submit = () =>
    save.mutate(
      { id, name, shared, arrangement, experiment: place.experiment },
      {
        onSuccess: (view) => {
          toast(`View ${view.name} saved.`)
          onClose()
          void navigate(address(place, view), { replace: true })
        },
      },
    )
  return (
    <DialogForm
      title="Save as a view"
      act="Save"
      error={save.error}
      pending={save.isPending}
      onSubmit={submit}
      onClose={onClose}
    >
      <label className="flex flex-col gap-1 text-xs text-ink2">
        Name
        <input
          className="field h-8 text-sm"
          required
          maxLength={100}
          value={name}
          onChange={(event) => setName(event.target.value)}
        />
      </label>
      <label className="flex items-center gap-2 text-xs text-ink2">
        <input type="checkbox" checked={shared} onChange={(event) => setShared(event.target.checked)} />
        for everybody of {place.project}
      </label>
      <p className="text-xs text-ink3">
        Query, columns, sort, groups, selection and charts are kept as they are. Names in it are settled: what
        is recorded later under the same name changes nothing of it.
      </p>
    </DialogForm>
  )
}

function LinkDialog({ place, arrangement, onClose }: Asking) {
  const make = useMakeLink(place.project)
  const revoke = useRevokeLink(place.project)
  const links = useLinks(place.project, true)
  const [days, setDays] = useState('30')
  const [made, setMade] = useState<string | null>(null)
  const submit = () =>
    make.mutate(
      { experiment: place.experiment, arrangement, days: Number(days) },
      { onSuccess: (link) => setMade(`${ADDRESS}/shared/${link.secret}`) },
    )
  if (made) {
    return (
      <Modal title="The link" onClose={onClose}>
        <p className="text-xs text-ink2">
          Whoever has it sees this view, and nothing else, for {days} days. It is shown once: copy it now.
        </p>
        <input
          aria-label="The link"
          readOnly
          className="field mono mt-2 h-8 w-full"
          value={made}
          onFocus={(event) => event.target.select()}
        />
        <div className="mt-3 flex justify-end gap-2">
          <button className="btn btn-p" onClick={() => void copy(made, 'The link')}>
            Copy
          </button>
          <button className="btn" onClick={onClose}>
            Close
          </button>
        </div>
      </Modal>
    )
  }
  return (
    <DialogForm
      title="Link for people without an account"
      act="Make the link"
      error={make.error}
      pending={make.isPending}
      onSubmit={submit}
      onClose={onClose}
    >
      <label className="flex items-center gap-2 text-xs text-ink2">
        It opens for
        <input
          className="field h-7 w-16"
          type="number"
          min={1}
          max={366}
          required
          value={days}
          onChange={(event) => setDays(event.target.value)}
        />
        days, read-only, and shows the columns on screen of the runs that fit.
      </label>
      {links.data && links.data.length > 0 && (
        <ul
          aria-label="Links of this project"
          className="max-h-40 overflow-auto border-t border-line pt-2 text-xs"
        >
          {links.data.map((link) => (
            <li key={link.number} className="flex items-center gap-2 py-px">
              <span className="truncate">
                {link.experiment} <span className="text-ink3">{link.arrangement.q}</span>
              </span>
              <span className="ml-auto whitespace-nowrap text-ink3">
                by {link.author}, until {moment(link.expires_at)}
              </span>
              <button
                type="button"
                className="btn"
                onClick={() =>
                  revoke.mutate(link.number, {
                    onSuccess: () => toast(`Link ${link.number} opens nothing any more.`),
                    onError: (error) => toast(error.message),
                  })
                }
              >
                Revoke
              </button>
            </li>
          ))}
        </ul>
      )}
    </DialogForm>
  )
}

function FrameDialog({ place, onClose }: { place: Place; onClose: () => void }) {
  const { search } = useLocation()
  const embedding = useEmbedding(place.project)
  const set = useSetEmbedding(place.project)
  const [text, setText] = useState<string | null>(null)
  const origins = embedding.data?.origins ?? []
  const shown = text ?? origins.join('\n')
  const here = `${ADDRESS}/embed/${place.project}/e/${place.experiment}${search}`
  const frame = `<iframe src="${here.replaceAll('&', '&amp;').replaceAll('"', '&quot;')}" width="100%" height="600"></iframe>`
  const submit = () =>
    set.mutate(shown.split(/\s+/).filter(Boolean), {
      onSuccess: () => {
        setText(null)
        toast('Kept who may show views.')
      },
    })
  return (
    <DialogForm
      title="Show in another page"
      act="Keep origins"
      error={set.error}
      pending={set.isPending}
      onSubmit={submit}
      onClose={onClose}
    >
      <label className="flex flex-col gap-1 text-xs text-ink2">
        This element shows the view to people who are signed in here
        <textarea
          className="field mono"
          rows={3}
          readOnly
          value={frame}
          onFocus={(event) => event.target.select()}
        />
      </label>
      <button type="button" className="btn self-start" onClick={() => void copy(frame, 'The element')}>
        Copy
      </button>
      <TextArea
        label={<>In pages of these origins, one a line; maintainers of {place.project} set them</>}
        value={shown}
        onChange={setText}
        rows={3}
        plain
      />
      <p className="text-xs text-ink3">
        Pages elsewhere, and people without an account, are shown a link’s page instead; its address fits into
        a frame as well.
      </p>
    </DialogForm>
  )
}
