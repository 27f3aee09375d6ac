/** Live changes: what is on screen and was touched is read anew, at most a few times a second. */
import { useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { follow } from './client'

const GATHER_MS = 350

/** Follow a project; returns whether the stream is connected. */
export function useLive(project: string | undefined): boolean {
  const queries = useQueryClient()
  const [connected, setConnected] = useState(true)
  useEffect(() => {
    if (!project) return
    const runs = new Set<string>()
    const experiments = new Set<string>()
    let registry = false
    let timer: ReturnType<typeof setTimeout> | undefined
    let lost = false
    const refresh = () => {
      timer = undefined
      void queries.invalidateQueries({
        predicate: ({ queryKey: key }) => {
          if (key[0] !== 'project' || key[1] !== project) return false
          if (key[2] === 'run') return runs.has(String(key[3]))
          if (key[2] === 'experiment') return experiments.has(String(key[3]))
          if (key[2] === 'experiments') return experiments.size > 0
          if (key[2] === 'curves') return (key[4] as string[]).some((run) => runs.has(run))
          if (key[2] === 'comparison') return (key[3] as string[]).some((run) => runs.has(run))
          return registry
        },
      })
      runs.clear()
      experiments.clear()
      registry = false
    }
    const stop = follow(
      project,
      (change) => {
        if (change.kind === 'run') {
          runs.add(change.subject)
          if (change.experiment) experiments.add(change.experiment)
        } else registry = true
        timer ??= setTimeout(refresh, GATHER_MS)
      },
      (is) => {
        setConnected(is)
        if (is && lost) void queries.invalidateQueries({ queryKey: ['project', project] })
        lost = !is
      },
    )
    return () => {
      stop()
      clearTimeout(timer)
    }
  }, [project, queries])
  return connected
}
