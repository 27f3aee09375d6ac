/** Put runs into the bin, with the way back in the toast. */
import { useBinRuns, useRestoreRuns } from '../api/acts'
import { named } from './DescribeDialogs'
import { toast } from './Toasts'

export function useBinning(project: string) {
  const bin = useBinRuns(project)
  const restore = useRestoreRuns(project)
  const fail = (error: Error) => toast(error.message)
  const giveBack = (runs: string[]) =>
    restore.mutate({ runs }, { onSuccess: () => toast(`${named(runs)} restored.`), onError: fail })
  const putAway = (runs: string[], after?: () => void) =>
    bin.mutate(
      { runs },
      {
        onSuccess: () => {
          after?.()
          toast(`${named(runs)} in the bin; nothing is deleted.`, () => giveBack(runs))
        },
        onError: fail,
      },
    )
  return { putAway, giveBack, pending: bin.isPending || restore.isPending }
}
