/** The lineage drawn: what was there first stands left, what came of it right. */
import { useEffect, useMemo, useRef, useState } from 'react'
import type { Lineage, LineageNode } from '../../api/data'
import { NODE, type Placed } from './layout'

/** Below this nobody reads the names. */
const SMALLEST = 0.86

export const WORDS: Record<LineageNode['kind'], string> = {
  file: 'file',
  artifact: 'version',
  run: 'run',
  model: 'model version',
  group: 'group',
  hidden: '',
}

/** Each kind has a shape of its own: runs are round, versions square, groups stacked, models thick. */
function Shape({ node, chosen, start }: { node: LineageNode; chosen: boolean; start: boolean }) {
  const stroke = chosen || start ? 'var(--accent)' : node.gone ? 'var(--ink3)' : 'var(--line2)'
  const common = {
    width: NODE.width,
    height: NODE.height,
    fill: start ? 'var(--soft)' : 'var(--surface)',
    stroke,
    strokeWidth: chosen ? 2 : node.kind === 'model' ? 2 : 1,
    strokeDasharray: node.gone || node.kind === 'hidden' ? '3 3' : undefined,
  }
  return (
    <>
      {node.kind === 'group' && <rect {...common} x={4} y={-4} rx={3} fill="var(--sunken)" />}
      <rect {...common} rx={node.kind === 'run' ? 20 : node.kind === 'group' ? 3 : 0} />
      {node.kind === 'file' && (
        <path d={`M${NODE.width - 10},0 v10 h10`} fill="none" stroke={stroke} aria-hidden />
      )}
    </>
  )
}

const cut = (text: string, length: number) => (text.length > length ? `${text.slice(0, length - 1)}…` : text)

const about = (node: LineageNode) =>
  [
    node.gone ? 'purged' : WORDS[node.kind === 'group' ? 'group' : node.kind],
    node.kind === 'group' ? '' : node.detail,
    ...node.stages.map((stage) => `on ${stage}`),
  ]
    .filter(Boolean)
    .join(', ')

export function Graph({
  graph,
  placed,
  chosen,
  choose,
  open,
}: {
  graph: Lineage
  placed: Placed
  chosen: string | null
  choose: (id: string) => void
  open: (node: LineageNode) => void
}) {
  const frame = useRef<HTMLDivElement>(null)
  const near = useMemo(() => {
    const at = chosen ?? graph.start
    return new Set(
      graph.edges
        .filter((edge) => edge.source === at || edge.target === at)
        .flatMap((edge) => [edge.source, edge.target]),
    )
  }, [graph, chosen])
  const start = placed.nodes.get(graph.start)
  const [scale, setScale] = useState(1)
  useEffect(() => {
    const box = frame.current
    if (!box || !start) return
    // What nearly fits is made to fit; what is far larger is read by scrolling, from the start on.
    const wide = Math.min(1, (box.clientWidth - 4) / (placed.width + 48))
    const fitting = Math.min(wide, (box.clientHeight - 4) / (placed.height + 48))
    const shown = fitting >= SMALLEST ? fitting : Math.max(SMALLEST, wide)
    setScale(shown)
  }, [placed, start])
  useEffect(() => {
    // Only once it has its size is there anything to scroll.
    const box = frame.current
    if (!box || !start) return
    box.scrollLeft = start.x * scale - box.clientWidth / 2 + NODE.width / 2
    box.scrollTop = start.y * scale - box.clientHeight / 2
  }, [placed, start, scale])
  return (
    <div
      ref={frame}
      tabIndex={0}
      className="flex h-full overflow-auto bg-bg"
      role="region"
      aria-label="Lineage"
    >
      <svg
        width={(placed.width + 48) * scale}
        height={(placed.height + 48) * scale}
        viewBox={`0 0 ${placed.width + 48} ${placed.height + 48}`}
        className="m-auto block shrink-0"
        role="group"
        aria-label={`${graph.nodes.length} things and ${graph.edges.length} relations`}
      >
        <defs>
          <marker
            id="arrow"
            viewBox="0 0 8 8"
            refX="7"
            refY="4"
            markerWidth="9"
            markerHeight="9"
            markerUnits="userSpaceOnUse"
            orient="auto"
          >
            <path d="M0,1 L7,4 L0,7 z" fill="var(--ink3)" />
          </marker>
        </defs>
        <g transform="translate(24 24)">
          {placed.edges.map((edge, at) => {
            const lit = [edge.source, edge.target].includes(chosen ?? graph.start)
            return (
              <path
                key={at}
                d={edge.path}
                fill="none"
                stroke={lit ? 'var(--accent)' : 'var(--line2)'}
                strokeWidth={lit ? 1.6 : 1}
                strokeDasharray={
                  edge.relation === 'used' ? undefined : edge.relation === 'began' ? '2 3' : undefined
                }
                markerEnd="url(#arrow)"
              >
                <title>{edge.role ? `${edge.relation} as ${edge.role}` : edge.relation}</title>
              </path>
            )
          })}
          {graph.nodes.map((node) => {
            const at = placed.nodes.get(node.id)
            if (!at) return null
            const isChosen = node.id === chosen
            return (
              <g
                key={node.id}
                transform={`translate(${at.x} ${at.y})`}
                role="button"
                tabIndex={0}
                aria-pressed={isChosen}
                className="cursor-pointer"
                opacity={chosen && !near.has(node.id) && !isChosen ? 0.75 : 1}
                onClick={() => choose(node.id)}
                onDoubleClick={() => open(node)}
                onKeyDown={(event) => {
                  if (event.key === 'Enter' || event.key === ' ') {
                    event.preventDefault()
                    if (isChosen) open(node)
                    else choose(node.id)
                  }
                }}
              >
                <Shape node={node} chosen={isChosen} start={node.id === graph.start} />
                <text>
                  <tspan x={12} y={17} className="strong" fontSize={12} fill="var(--ink)">
                    {cut(node.reference, 22)}
                  </tspan>{' '}
                  <tspan
                    x={12}
                    y={31}
                    fontSize={11}
                    fill={node.stages.length ? 'var(--accent)' : 'var(--ink3)'}
                  >
                    {cut(about(node), 26)}
                  </tspan>
                </text>
              </g>
            )
          })}
        </g>
      </svg>
    </div>
  )
}
