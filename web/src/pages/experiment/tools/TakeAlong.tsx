/** The same table elsewhere: one line of Python, one of shell, or a file. */
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/react'
import { toast } from '../../../parts/Toasts'
import { API } from '../../../api/place'

type Place = { project: string; experiment: string }
const ITEM = 'block w-full px-3 py-1 text-left data-focus:bg-soft'
const ITEMS =
  'z-20 mt-1 rounded-[3px] border border-line2 bg-surface py-1 text-xs shadow-md focus:outline-none'
const FORMS = { CSV: 'csv', 'JSON Lines': 'jsonl', Parquet: 'parquet' }

export async function copy(text: string, what: string) {
  try {
    await navigator.clipboard.writeText(text)
    toast(`${what} copied.`)
  } catch {
    toast(`The browser does not let copy; here it is: ${text}`)
  }
}

/** Which table: of these runs, in this order, with these columns; `pareto` leaves the runs on a front. */
type Table = { place: Place; query: string; sort: string; columns: string[]; pareto?: string }

function tableAddress({ place, query, sort, columns, pareto = '' }: Table, form: string) {
  const asked = new URLSearchParams({ form, query, sort, pareto })
  for (const column of columns) asked.append('column', column)
  return `${API}/projects/${place.project}/experiments/${place.experiment}/table?${asked}`
}

export function ExportMenu(props: Table & { text: string; name: string; disabled?: boolean }) {
  return (
    <Menu>
      <MenuButton className="btn" aria-label={props.name} disabled={props.disabled}>
        {props.text} ▾
      </MenuButton>
      <MenuItems anchor="bottom end" className={ITEMS}>
        <FileItems {...props} />
      </MenuItems>
    </Menu>
  )
}

function FileItems(table: Table) {
  return Object.entries(FORMS).map(([name, form]) => (
    <MenuItem key={form}>
      <a className={ITEM} href={tableAddress(table, form)} download>
        {name}
      </a>
    </MenuItem>
  ))
}

/** Take the whole table along. */
export function TakeAlong(
  props: Table & {
    python: string
    shell: string
    /** The metric of the lens, whose points can be taken along too. */
    metric: string | undefined
  },
) {
  const { metric, place, query, pareto = '' } = props
  const points = (form: string) =>
    `${API}/projects/${place.project}/experiments/${place.experiment}/series?${new URLSearchParams({ form, query, pareto, metric: metric ?? '' })}`
  return (
    <Menu>
      <MenuButton className="btn h-7">Take along ▾</MenuButton>
      <MenuItems anchor="bottom end" className={`${ITEMS} max-w-[560px]`}>
        {(
          [
            ['Copy as Python', props.python, 'The line of Python'],
            ['Copy as shell', props.shell, 'The command'],
          ] as const
        ).map(([name, line, what]) => (
          <MenuItem key={name}>
            <button className={ITEM} onClick={() => void copy(line, what)}>
              {name}
              <code className="mono block truncate text-ink3">{line}</code>
            </button>
          </MenuItem>
        ))}
        <p className="lab mt-1 border-t border-line px-3 pt-1">The whole table as a file</p>
        <FileItems {...props} />
        {metric && (
          <>
            <p className="lab mt-1 border-t border-line px-3 pt-1">Every point of {metric} of these runs</p>
            {Object.entries(FORMS).map(([name, form]) => (
              <MenuItem key={form}>
                <a className={ITEM} href={points(form)} download>
                  Points as {name}
                </a>
              </MenuItem>
            ))}
          </>
        )}
      </MenuItems>
    </Menu>
  )
}
