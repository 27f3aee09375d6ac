/** Put runs and versions into the bin, with the way back in the toast. */
import { useBinThings, useRestoreThings } from '../api/acts'
import { named } from './DescribeDialogs'
import { toast } from './Toasts'

export function useBinning(project: string) {
  const bin = useBinThings(project)
  const restore = useRestoreThings(project)
  const fail = (error: Error) => toast(error.message)
  const giveBack = (things: string[]) =>
    restore.mutate({ things }, { onSuccess: () => toast(`${named(things)} restored.`), onError: fail })
  const putAway = (things: string[], after?: () => void) =>
    bin.mutate(
      { things },
      {
        onSuccess: () => {
          after?.()
          toast(`${named(things)} in the bin; nothing is deleted.`, () => giveBack(things))
        },
        onError: fail,
      },
    )
  return { putAway, giveBack, pending: bin.isPending || restore.isPending }
}
