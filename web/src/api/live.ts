/** Live changes: what is on screen and was touched is read anew, at a pace that the service asks for. */
import { useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { follow, type Change } from './client'
import { isOfMe, isTouched, type Changes } from './keys'

/** What changed since the last reading. */
class Gathered implements Changes {
  runs = new Set<string>()
  printed = new Set<string>()
  sampled = new Set<string>()
  experiments = new Set<string>()
  acts = false

  add(change: Change) {
    if (change.kind === 'output') this.printed.add(change.subject)
    else if (change.kind === 'resources') this.sampled.add(change.subject)
    else if (change.kind === 'run') {
      this.runs.add(change.subject)
      if (change.experiment) this.experiments.add(change.experiment)
    } else this.acts = true
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
      void queries.invalidateQueries({ predicate: ({ queryKey }) => isTouched(queryKey, project ?? '', now) })
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
      reset: () => void queries.invalidateQueries({ predicate: ({ queryKey }) => !isOfMe(queryKey) }),
      connected: setConnected,
    })
    return () => {
      stop()
      clearTimeout(timer)
    }
  }, [project, queries])
  return connected
}
