/** Puts a model out of sight; nothing of it is lost. */
import { useNavigate } from 'react-router'
import { useBinThings } from '../../api/acts'
import type { Model } from '../../api/client'
import { DialogForm } from '../../parts/DialogForm'
import { toast } from '../../parts/Toasts'

type Props = { model: Model; onClose: () => void }

export function BinModel({ model, onClose }: Props) {
  const bin = useBinThings(model.project)
  const navigate = useNavigate()
  const submit = () =>
    bin.mutate(
      { things: [`model:${model.name}`], children: false },
      {
        onSuccess: () => {
          toast(`${model.name} is in the bin.`)
          void navigate(`/${model.project}/models`)
        },
      },
    )
  return (
    <DialogForm
      title={`Put ${model.name} into the bin?`}
      act="Put into the bin"
      error={bin.error}
      pending={bin.isPending}
      onSubmit={submit}
      onClose={onClose}
    >
      <p className="text-sm">
        It is listed no more and nothing is registered or placed until it is restored. Its versions stay, and
        are fetched by their numbers.
      </p>
    </DialogForm>
  )
}
