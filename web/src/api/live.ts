/** Live changes: what is on screen and was touched is read anew, at a pace that the service asks for. */
import { useQueryClient, type QueryKey } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { follow, type Change } from './client'

/** What changed since the last reading. */
class Gathered {
  runs = new Set<string>()
  printed = new Set<string>()
  sampled = new Set<string>()
  experiments = new Set<string>()
  registry = false

  add(change: Change) {
    if (change.kind === 'output') this.printed.add(change.subject)
    else if (change.kind === 'resources') this.sampled.add(change.subject)
    else if (change.kind === 'run') {
      this.runs.add(change.subject)
      if (change.experiment) this.experiments.add(change.experiment)
    } else this.registry = true
  }

  touches(key: QueryKey, project: string): boolean {
    if (key[0] === 'today') return this.runs.size > 0 || this.registry
    if (key[0] !== 'project' || key[1] !== project) return false
    const any = (names: unknown, among: Set<string>) => (names as string[]).some((name) => among.has(name))
    switch (key[2]) {
      case 'run':
        return this.runs.has(String(key[3])) || this.firstOf(String(key[3]))
      case 'output':
        return this.printed.has(String(key[3]))
      case 'resources':
        return this.sampled.has(String(key[3]))
      case 'experiment':
        return this.experiments.has(String(key[3]))
      case 'experiments':
        return this.experiments.size > 0
      case 'curves':
        return any(key[4], this.runs)
      case 'comparison':
        return any(key[3], this.runs)
      case 'surroundings':
        return false
      default:
        return this.registry
    }
  }

  /** A run's page shows its output and samples only once it knows that there are any. */
  private firstOf(run: string): boolean {
    return this.printed.has(run) || this.sampled.has(run)
  }
}

/** Follow a project, or with null everything one may see; returns whether the stream is connected. */
export function useLive(project: string | null | undefined): boolean {
  const queries = useQueryClient()
  const [connected, setConnected] = useState(true)
  useEffect(() => {
    if (project === undefined) return
    let gathered = new Gathered()
    let gatherMs = 350
    let timer: ReturnType<typeof setTimeout> | undefined
    const refresh = () => {
      timer = undefined
      const now = gathered
      gathered = new Gathered()
      void queries.invalidateQueries({ predicate: ({ queryKey }) => now.touches(queryKey, project ?? '') })
    }
    const stop = follow(project, {
      change: (change) => {
        gathered.add(change)
        // Not all consoles at the same moment.
        timer ??= setTimeout(refresh, gatherMs * (0.8 + 0.4 * Math.random()))
      },
      pace: (milliseconds) => {
        gatherMs = milliseconds
      },
      reset: () => void queries.invalidateQueries({ predicate: ({ queryKey }) => queryKey[0] !== 'me' }),
      connected: setConnected,
    })
    return () => {
      stop()
      clearTimeout(timer)
    }
  }, [project, queries])
  return connected
}
