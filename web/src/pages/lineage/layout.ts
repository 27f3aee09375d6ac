/** Where nodes and edges of the lineage stand: laid out by layers in a worker of its own. */
import ELK, { type ElkExtendedEdge, type ElkNode } from 'elkjs/lib/elk-api'
import workerAddress from 'elkjs/lib/elk-worker.min.js?url'
import { useEffect, useState } from 'react'
import type { Lineage } from '../../api/data'

export const NODE = { width: 150, height: 40 }

export type Placed = {
  width: number
  height: number
  nodes: Map<string, { x: number; y: number }>
  edges: { source: string; target: string; relation: string; role: string | null; path: string }[]
}

let elk: InstanceType<typeof ELK> | null = null

const layouter = () => (elk ??= new ELK({ workerFactory: () => new Worker(workerAddress) }))

function pathOf(edge: ElkExtendedEdge): string {
  const section = edge.sections?.[0]
  if (!section) return ''
  const points = [section.startPoint, ...(section.bendPoints ?? []), section.endPoint]
  return points.map((point, at) => `${at ? 'L' : 'M'}${point.x.toFixed(1)},${point.y.toFixed(1)}`).join('')
}

async function place(graph: Lineage): Promise<Placed> {
  const found = (await layouter().layout({
    id: 'root',
    layoutOptions: {
      'elk.algorithm': 'layered',
      'elk.direction': 'RIGHT',
      'elk.layered.spacing.nodeNodeBetweenLayers': '34',
      'elk.spacing.nodeNode': '10',
      'elk.edgeRouting': 'POLYLINE',
      'elk.layered.nodePlacement.strategy': 'BRANDES_KOEPF',
    },
    children: graph.nodes.map((node) => ({ id: node.id, ...NODE })),
    edges: graph.edges.map((edge, at) => ({
      id: String(at),
      sources: [edge.source],
      targets: [edge.target],
    })),
  })) as ElkNode
  const edges = ((found.edges ?? []) as ElkExtendedEdge[]).map((edge) => {
    const asked = graph.edges[Number(edge.id)]
    return {
      source: asked?.source ?? '',
      target: asked?.target ?? '',
      relation: asked?.relation ?? '',
      role: asked?.role ?? null,
      path: pathOf(edge),
    }
  })
  return {
    width: found.width ?? 0,
    height: found.height ?? 0,
    nodes: new Map((found.children ?? []).map((node) => [node.id, { x: node.x ?? 0, y: node.y ?? 0 }])),
    edges,
  }
}

/** The layout of a graph, once it is there; the one before stays until then. */
export function useLayout(graph: Lineage | undefined): { placed: Placed | null; of: Lineage | null } {
  const [state, setState] = useState<{ placed: Placed | null; of: Lineage | null }>({
    placed: null,
    of: null,
  })
  useEffect(() => {
    if (!graph) return
    let current = true
    void place(graph).then((placed) => current && setState({ placed, of: graph }))
    return () => {
      current = false
    }
  }, [graph])
  return state
}
