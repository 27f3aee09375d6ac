/** How much a project may take, asked of an administrator; an empty field bounds nothing. */
import { useState } from 'react'
import { useSetQuota } from '../../api/access'
import type { Schemas } from '../../api/client'
import { DialogForm } from '../../parts/DialogForm'
import { Field } from '../../parts/Field'
import { toast } from '../../parts/Toasts'

const GIGABYTE = 1e9

export function QuotaDialog(props: { project: string; quota: Schemas['Quota']; onClose: () => void }) {
  const { project, quota, onClose } = props
  const set = useSetQuota(project)
  const [gigabytes, setGigabytes] = useState(written(quota.size_bytes, GIGABYTE))
  const [runs, setRuns] = useState(written(quota.runs_a_day))
  const [points, setPoints] = useState(written(quota.points_a_day))
  const save = () =>
    set.mutate(
      {
        size_bytes: bound(gigabytes, GIGABYTE),
        runs_a_day: bound(runs),
        points_a_day: bound(points),
      },
      {
        onSuccess: () => {
          toast(`The quota of ${project} is set.`)
          onClose()
        },
      },
    )
  return (
    <DialogForm
      title={`Quota of ${project}`}
      act="Set the quota"
      error={set.error}
      pending={set.isPending}
      onSubmit={save}
      onClose={onClose}
    >
      <p className="text-sm text-ink2">
        An empty field bounds nothing. What is over is kept by whoever records it and comes in once there is
        room.
      </p>
      <Field
        label="Stored files, GB"
        type="number"
        min={0}
        step="any"
        value={gigabytes}
        onChange={setGigabytes}
      />
      <Field label="Runs a day" type="number" min={0} value={runs} onChange={setRuns} />
      <Field label="Points a day" type="number" min={0} value={points} onChange={setPoints} />
    </DialogForm>
  )
}

const written = (value: number | null, unit = 1) => (value === null ? '' : String(value / unit))

const bound = (text: string, unit = 1) => (text === '' ? null : Math.round(Number(text) * unit))
