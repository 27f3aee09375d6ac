/** A model's card: read as a page, written as Markdown, against the revision that was seen. */
import { lazy, Suspense, useState } from 'react'
import { useWriteCard } from '../../api/registry'
import type { Model } from '../../api/client'
import { DialogForm } from '../../parts/DialogForm'
import { Section } from '../../parts/Marks'
import { TextArea } from '../../parts/TextArea'
import { API } from '../../api/place'

const Markdown = lazy(() => import('../../parts/Markdown'))

export function Card({ model }: { model: Model }) {
  const [writing, setWriting] = useState(false)
  const why = model.why_not['card']
  return (
    <Section
      title="Card"
      fact={
        <>
          {model.missing_sections.length > 0 && (
            <span className="strong text-bad">
              still to be written: {model.missing_sections.join(', ')} ·{' '}
            </span>
          )}
          <button
            className="btn leading-[18px]"
            disabled={!!why}
            title={why ?? undefined}
            onClick={() => setWriting(true)}
          >
            Write
          </button>
        </>
      }
    >
      {model.image && <Picture model={model} />}
      <Suspense fallback={<p className="text-sm whitespace-pre-wrap">{model.card}</p>}>
        <Markdown text={model.card || 'Nobody has written it yet.'} />
      </Suspense>
      {writing && <WriteCard model={model} onClose={() => setWriting(false)} />}
    </Section>
  )
}

function Picture({ model }: { model: Model }) {
  const [version = '', ...path] = (model.image ?? '').split(':')
  const [name, number] = version.split('@')
  const file = path.join(':').split('/').map(encodeURIComponent).join('/')
  return (
    <img
      className="float-right mb-2 ml-4 max-h-40 max-w-60 border border-line"
      alt={`Image of ${model.name}`}
      src={`${API}/projects/${model.project}/artifacts/${name}/versions/${number}/files/${file}?show=true`}
    />
  )
}

function WriteCard({ model, onClose }: { model: Model; onClose: () => void }) {
  const write = useWriteCard(model.project, model.name)
  // What was seen when the dialog opened: somebody else's card is not written over unseen.
  const [seen] = useState({ card: model.card, revision: model.card_revision })
  const [card, setCard] = useState(seen.card)
  return (
    <DialogForm
      title={`Card of ${model.name}`}
      act="Write card"
      wide
      error={write.error}
      pending={write.isPending}
      onSubmit={() => write.mutate({ card, expect: seen.revision }, { onSuccess: onClose })}
      onClose={onClose}
    >
      <TextArea
        label={
          <>
            Markdown
            {model.card_sections.length > 0 && `; required sections: ${model.card_sections.join(', ')}`}
          </>
        }
        value={card}
        onChange={setCard}
        rows={22}
        plain
      />
    </DialogForm>
  )
}
