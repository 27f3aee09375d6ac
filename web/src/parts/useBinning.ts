/** Put runs and versions into the bin, with the way back in the toast, and the way to take the runs below along. */
import { useBinThings, useRestoreThings } from '../api/acts'
import { plural } from './values'
import { toast } from './Toasts'

/** One thing by its reference, several by what they are. */
function counted(things: string[]) {
  if (things.length === 1) return things[0] ?? ''
  const versions = things.filter((thing) => thing.includes('@')).length
  const parts = [
    versions < things.length && plural(things.length - versions, 'run'),
    versions > 0 && plural(versions, 'version'),
  ]
  return parts.filter(Boolean).join(' and ')
}

export function useBinning(project: string) {
  const bin = useBinThings(project)
  const restore = useRestoreThings(project)
  const fail = (error: Error) => toast(error.message)
  const giveBack = (things: string[]) =>
    restore.mutate({ things }, { onSuccess: () => toast(`${counted(things)} restored.`), onError: fail })
  const move = (things: string[], children: boolean, after?: () => void) =>
    bin.mutate(
      { things, children },
      {
        onSuccess: ({ references, left_below }) => {
          after?.()
          toast(`${counted(references)} in the bin; nothing is deleted.`, () => giveBack(references))
          if (left_below > 0) {
            const stay = left_below === 1 ? '1 run below stays.' : `${left_below} runs below stay.`
            toast(stay, () => move(things, true), 'Take along')
          }
        },
        onError: fail,
      },
    )
  const putAway = (things: string[], after?: () => void) => move(things, false, after)
  return { putAway, giveBack, pending: bin.isPending || restore.isPending }
}
