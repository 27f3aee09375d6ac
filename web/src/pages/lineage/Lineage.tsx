/** The lineage of a run, a version or a file: what it came from, what came of it. */
import { useState } from 'react'
import { Link, useNavigate, useParams } from 'react-router'
import { provAddress, useLineage, type Lineage as Graphed, type LineageNode } from '../../api/data'
import { useAddress } from '../../parts/selection'
import { Answer, Page, Waiting } from '../../parts/Shell'
import { moment, plural } from '../../parts/values'
import { Graph, WORDS } from './Graph'
import { useLayout } from './layout'

const WAYS = [
  ['both', 'both ways'],
  ['back', 'what it came from'],
  ['forth', 'what came of it'],
] as const

/** The address of a node's own page; a group and a file have none. */
export function pageOf(project: string, node: { kind: string; reference: string }): string | null {
  const parts = node.reference.split('/')
  // What is of another project has it in front: harbour/frost-alarm/3, harbour/nights@2.
  const elsewhere = parts.length === (node.kind === 'run' ? 3 : 2)
  const home = elsewhere ? parts[0] : project
  const reference = elsewhere ? parts.slice(1).join('/') : node.reference
  const [name, which] = reference.split('@')
  if (node.kind === 'run') return `/${home}/e/${reference}`
  if (node.kind === 'artifact') return `/${home}/data/${name}?version=${which}`
  if (node.kind === 'model') return `/${home}/models/${name}/${which}`
  return null
}

export default function Lineage() {
  const { project = '' } = useParams()
  const { params, change, changeAll } = useAddress()
  const go = useNavigate()
  const of = params.get('of') ?? ''
  const way = (params.get('way') as 'both' | 'back' | 'forth' | null) ?? 'both'
  const fold = Number(params.get('fold') ?? 60)
  const { data, error } = useLineage(project, { of, way, fold_to: fold })
  const { placed, of: drawn } = useLayout(data)
  const crumbs = [{ text: 'data', to: `/${project}/data` }, { text: `lineage of ${of}` }]
  if (!data || !placed || !drawn) {
    return (
      <Page crumbs={crumbs} at="Data" title={`Lineage of ${of}`}>
        <Waiting error={error} />
      </Page>
    )
  }
  const chosen = drawn.nodes.find((node) => node.id === params.get('at')) ?? null
  const show = (node: LineageNode) => {
    const page = pageOf(project, node)
    if (page) void go(page)
  }
  const [first, rest] = splitSentence(data.sentence, of)
  return (
    <Page crumbs={crumbs} at="Data" title={`Lineage of ${of}`}>
      <Answer
        reason={
          <>
            {plural(data.count, 'thing')}
            {data.nodes.length < data.count && `, folded to ${data.nodes.length}`}
            {data.cut && '; there is more that was not followed'}. A click tells about a thing, a second one
            on its name leads to its page.
          </>
        }
        right={<Ways project={project} of={of} folded={data.nodes.length < data.count} />}
      >
        <b>{first}</b>
        {rest}
      </Answer>
      <div className="flex min-h-0 flex-1 border-t border-line2" style={{ height: 'calc(100vh - 120px)' }}>
        <div className="min-w-0 flex-1">
          <Graph
            graph={drawn}
            placed={placed}
            chosen={chosen?.id ?? null}
            choose={(id) => change('at', id)}
            open={show}
          />
        </div>
        <aside
          className="w-[300px] shrink-0 overflow-auto border-l border-line2 px-4 py-3"
          aria-label="Chosen"
        >
          <About
            project={project}
            graph={drawn}
            node={chosen ?? drawn.nodes.find((node) => node.id === drawn.start) ?? null}
            follow={(reference) => changeAll({ of: reference, at: null }, false)}
          />
        </aside>
      </div>
    </Page>
  )
}

function Ways({ project, of, folded }: { project: string; of: string; folded: boolean }) {
  const { params, change } = useAddress()
  const way = params.get('way') ?? 'both'
  const unfolded = params.get('fold') !== null
  return (
    <>
      {WAYS.map(([word, text]) => (
        <button
          key={word}
          className={`chip ${way === word ? 'chip-on' : ''}`}
          aria-pressed={way === word}
          onClick={() => change('way', word === 'both' ? null : word)}
        >
          {text}
        </button>
      ))}
      {(unfolded || folded) && (
        <button className="btn" onClick={() => change('fold', unfolded ? null : '400')}>
          {unfolded ? 'Fold' : 'Unfold'}
        </button>
      )}
      <a className="btn" href={provAddress(project, of)} download>
        PROV-JSON
      </a>
    </>
  )
}

function splitSentence(sentence: string, of: string): [string, string] {
  const at = sentence.indexOf(' came from')
  return at > 0 ? [sentence.slice(0, at), sentence.slice(at)] : [of, '']
}

function About({
  project,
  graph,
  node,
  follow,
}: {
  project: string
  graph: Graphed
  node: LineageNode | null
  follow: (reference: string) => void
}) {
  if (!node) return null
  const page = pageOf(project, node)
  const links = graph.edges.filter((edge) => edge.source === node.id || edge.target === node.id)
  const named = new Map(graph.nodes.map((found) => [found.id, found]))
  return (
    <div className="flex flex-col gap-2 text-xs">
      <h2 className="strong text-sm">
        {page ? (
          <Link className="link" to={page}>
            {node.reference}
          </Link>
        ) : (
          node.reference
        )}
      </h2>
      <p className="text-ink2">
        {WORDS[node.kind]}
        {node.gone ? ', purged' : node.detail && node.kind !== 'group' ? `, ${node.detail}` : ''}
        {node.at && `, ${moment(node.at)}`}
        {node.person && ` by ${node.person}`}
        {node.stages.length > 0 && <b className="strong text-accent"> on {node.stages.join(' and ')}</b>}
      </p>
      {node.kind === 'group' ? (
        <Members project={project} node={node} />
      ) : (
        node.id !== graph.start &&
        node.kind !== 'hidden' && (
          <p>
            <button className="btn" onClick={() => follow(node.reference)}>
              Lineage from here
            </button>
          </p>
        )
      )}
      <ul aria-label="Relations">
        {links.map((edge, at) => {
          const back = edge.target === node.id
          const other = named.get(back ? edge.source : edge.target)
          const to = other && pageOf(project, other)
          return (
            <li key={at} className="border-b border-line py-1">
              <span className="text-ink3">{wordOf(edge.relation, back)}</span>{' '}
              {to ? (
                <Link className="hover:underline" to={to}>
                  {other?.reference}
                </Link>
              ) : (
                other?.reference
              )}
              <span className="text-ink3">
                {edge.role ? ` as ${edge.role}` : ''}
                {edge.activity ? `, in ${edge.activity}` : ''}
              </span>
            </li>
          )
        })}
      </ul>
    </div>
  )
}

/** The relation as the node that is told about would say it; `back` where the other thing was there first. */
function wordOf(relation: string, back: boolean): string {
  const words: Record<string, [string, string]> = {
    used: ['used', 'used by'],
    generated: ['generated by', 'generated'],
    registered: ['registered from', 'registered as'],
    began: ['under', 'began'],
  }
  return words[relation]?.[back ? 0 : 1] ?? relation
}

function Members({ project, node }: { project: string; node: LineageNode }) {
  const [find, setFind] = useState('')
  const found = node.members.filter((member) => member.includes(find))
  return (
    <div>
      <input
        aria-label="Find in the group"
        className="field mb-1 w-full py-0"
        placeholder={`find among ${node.members.length.toLocaleString('en')}`}
        value={find}
        onChange={(event) => setFind(event.target.value)}
      />
      <ul aria-label="Members" className="max-h-[320px] overflow-auto">
        {found.slice(0, 300).map((member) => {
          const page = pageOf(project, { kind: node.detail, reference: member })
          return (
            <li key={member} className="border-b border-line py-0.5">
              {page ? (
                <Link className="hover:underline" to={page}>
                  {member}
                </Link>
              ) : (
                member
              )}
            </li>
          )
        })}
      </ul>
      {found.length > 300 && (
        <p className="lab">{plural(found.length - 300, 'more member')}; find narrows them.</p>
      )}
    </div>
  )
}
