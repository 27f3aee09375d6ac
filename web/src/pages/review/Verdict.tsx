/** Approve or reject with a comment; what others said, and why the asker may not. */
import { useState } from 'react'
import { useParams } from 'react-router'
import { useVerdict } from '../../api/acts'
import type { Model, Schemas } from '../../api/client'
import { useMe } from '../../api/queries'
import { Review as ReviewMark, Section } from '../../parts/Marks'
import { moment, plural } from '../../parts/values'
import { Comment } from '../../parts/TextArea'

export function Verdict({ model, version }: { model: Model; version: Schemas['ModelVersionDetail'] }) {
  const { project = '' } = useParams()
  const { data: me } = useMe()
  const give = useVerdict(project, model.name, version.number)
  const [comment, setComment] = useState('')
  const why = model.why_not['review']
  const mine = version.verdicts.find((verdict) => verdict.person === me?.full_name)
  const act = (verdict: 'approve' | 'reject' | null) =>
    give.mutate({ verdict, comment }, { onSuccess: () => setComment('') })
  const approved = version.verdicts.filter((verdict) => verdict.approves)
  const approvals = approved.filter((verdict) => !(model.renewed_approvals && verdict.older)).length
  return (
    <Section
      title="Verdict"
      fact={
        <>
          <ReviewMark review={version.review} /> · {approvals} of{' '}
          {plural(version.approvals_needed, 'approval')}
        </>
      }
    >
      {version.verdicts.map((verdict) => (
        <p key={verdict.person} className="border-l-2 border-line2 py-0.5 pl-2 text-xs">
          <b className="strong">{verdict.person}</b> {verdict.approves ? 'approved' : 'rejected'}{' '}
          {moment(verdict.given_at)}
          {verdict.comment && `: “${verdict.comment}”`}
          {verdict.older && <span className="text-bad"> · older than the newest evidence</span>}
        </p>
      ))}
      {version.imported_verdicts.map((verdict) => (
        <p
          key={`${verdict.said_by} ${verdict.given_at}`}
          className="border-l-2 border-line2 py-0.5 pl-2 text-xs text-ink3"
        >
          {verdict.said_by} {verdict.approves ? 'approved' : 'rejected'} it {moment(verdict.given_at)} where
          it was imported from, which does not count here
          {verdict.comment && `: “${verdict.comment}”`}
        </p>
      ))}
      {approvals < approved.length && (
        <p className="lab mt-1">
          Evidence came in after {plural(approved.length - approvals, 'approval')}: approve again to have it
          count.
        </p>
      )}
      <div className="mt-2">
        <Comment value={comment} onChange={setComment} rows={3} disabled={!!why} />
      </div>
      <div className="mt-2 flex gap-2">
        <button
          className="btn btn-p"
          disabled={!!version.why_not_approve || give.isPending}
          title={version.why_not_approve ?? undefined}
          onClick={() => act('approve')}
        >
          Approve
        </button>
        <button className="btn btn-bad" disabled={!!why || give.isPending} onClick={() => act('reject')}>
          Reject
        </button>
        {mine && (
          <button className="btn" disabled={give.isPending} onClick={() => act(null)}>
            Take my verdict back
          </button>
        )}
      </div>
      {version.why_not_approve && <p className="lab mt-1">{version.why_not_approve}</p>}
      {give.error && (
        <p role="alert" className="mt-1 text-xs text-bad">
          {give.error.message}
        </p>
      )}
    </Section>
  )
}
