/** What is said of an artifact: description and labels, and the labels of the version shown. */
import { useState } from 'react'
import { useDescribeArtifact, type VersionDetail } from '../../api/data'
import type { Schemas } from '../../api/client'
import { DescriptionForm } from '../../parts/DescribeDialogs'
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
      {asking && <DescribeArtifact project={project} artifact={artifact} onClose={() => setAsking(false)} />}
    </Section>
  )
}

function DescribeArtifact({
  project,
  artifact,
  onClose,
}: {
  project: string
  artifact: Artifact
  onClose: () => void
}) {
  const save = useDescribeArtifact(project, artifact.name)
  const { name, description, labels } = artifact
  return (
    <DescriptionForm name={name} description={description} labels={labels} save={save} onClose={onClose} />
  )
}
