/** What is said of an artifact: description and labels, and the labels of the version shown. */
import { useState } from 'react'
import { useDescribeArtifact, type VersionDetail } from '../../api/data'
import type { Schemas } from '../../api/client'
import { DialogForm } from '../../parts/DialogForm'
import { labelLines, labelsOf } from '../../parts/labels'
import { Section } from '../../parts/Marks'

type Artifact = Schemas['Artifact']

export function Described({
  project,
  artifact,
  version,
}: {
  project: string
  artifact: Artifact
  version: VersionDetail
}) {
  const [asking, setAsking] = useState(false)
  const labels = Object.entries({ ...artifact.labels, ...version.labels })
  return (
    <Section
      title="Described"
      fact={
        artifact.may.includes('describe') && (
          <button className="link" onClick={() => setAsking(true)}>
            edit
          </button>
        )
      }
    >
      <p className={`py-1 text-xs ${artifact.description ? '' : 'text-ink3'}`}>
        {artifact.description || 'No description yet.'}
      </p>
      {labels.length > 0 && (
        <p className="flex flex-wrap gap-x-3 text-xs text-ink2">
          {labels.map(([key, text]) => (
            <span key={key}>
              {key}={text}
            </span>
          ))}
        </p>
      )}
      {asking && <DescribeDialog project={project} artifact={artifact} onClose={() => setAsking(false)} />}
    </Section>
  )
}

function DescribeDialog({
  project,
  artifact,
  onClose,
}: {
  project: string
  artifact: Artifact
  onClose: () => void
}) {
  const save = useDescribeArtifact(project, artifact.name)
  const [description, setDescription] = useState(artifact.description)
  const [labels, setLabels] = useState(labelLines(artifact.labels))
  const submit = () => {
    const wanted = labelsOf(labels, artifact.labels)
    save.mutate({ description, labels: wanted }, { onSuccess: onClose })
  }
  return (
    <DialogForm
      title={`Describe ${artifact.name}`}
      act="Save"
      error={save.error}
      pending={save.isPending}
      onSubmit={submit}
      onClose={onClose}
    >
      <label className="flex flex-col gap-1 text-xs">
        What it is
        <textarea
          className="field h-24"
          value={description}
          onChange={(event) => setDescription(event.target.value)}
        />
      </label>
      <label className="flex flex-col gap-1 text-xs">
        Labels, a line each: key=text
        <textarea
          className="field mono h-20"
          value={labels}
          spellCheck={false}
          onChange={(event) => setLabels(event.target.value)}
        />
      </label>
    </DialogForm>
  )
}
