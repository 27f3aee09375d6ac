/** Lines for runs, for groups of them by a column, for replicates; children under their parents. */
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/react'
import type { RunPage } from '../../../api/client'
import { columnText } from '../columns'

const ITEM = 'block w-full px-3 py-1 text-left data-focus:bg-soft'

export function Grouping({
  page,
  group,
  fold,
  onGroup,
  onFold,
}: {
  page: RunPage
  group: string | null
  fold: boolean
  onGroup: (by: string | null) => void
  onFold: (fold: boolean) => void
}) {
  const settings = page.columns.filter((column) => column.scope === 'param' && column.differs).slice(0, 20)
  const labels = page.columns.filter((column) => column.scope === 'label').slice(0, 10)
  const named: [string, string][] = [
    ['Replicates: the same but for the seed', 'replicates'],
    ...[...settings, ...labels].map((column): [string, string] => [
      column.name,
      columnText(column, page.columns),
    ]),
    ...['status', 'author', 'host', 'commit', 'code', 'parent'].map((name): [string, string] => [name, name]),
  ]
  return (
    <Menu>
      <MenuButton className={`btn h-7 ${group ? 'chip-on' : ''}`}>
        {group ? `By ${group}` : fold ? 'Folded' : 'Group'} ▾
      </MenuButton>
      <MenuItems
        anchor="bottom end"
        className="z-20 mt-1 max-h-[60vh] overflow-auto rounded-[3px] border border-line2 bg-surface py-1 text-xs shadow-md focus:outline-none"
      >
        <MenuItem>
          <button className={ITEM} onClick={() => onGroup(null)}>
            {group ? 'A line for every run' : 'A line for every run ✓'}
          </button>
        </MenuItem>
        <MenuItem>
          <button className={ITEM} disabled={!!group} onClick={() => onFold(!fold)}>
            Children under their parents {fold ? '✓' : ''}
          </button>
        </MenuItem>
        <p className="lab mt-1 border-t border-line px-3 pt-1">Group by</p>
        {named.map(([text, by]) => (
          <MenuItem key={by}>
            <button className={ITEM} onClick={() => onGroup(by)}>
              {text} {group === by ? '✓' : ''}
            </button>
          </MenuItem>
        ))}
      </MenuItems>
    </Menu>
  )
}
