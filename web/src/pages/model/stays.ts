/** From a model's timeline of acts to the stays of versions on stages. */
import type { Model } from '../../api/client'

export type Stay = {
  stage: string
  version: number
  from: number
  to: number | null
  end: 'replaced' | 'rolled back' | 'demoted' | null
  again: boolean
}

export function staysOf(model: Model): Stay[] {
  const stays: Stay[] = []
  const open = new Map<string, Stay>()
  for (const event of model.events) {
    const at = new Date(event.at).getTime()
    const before = open.get(event.stage)
    if (before) {
      before.to = at
      before.end = event.act === 'roll back' ? 'rolled back' : event.act === 'demote' ? 'demoted' : 'replaced'
      open.delete(event.stage)
    }
    if (event.after !== null) {
      const stay: Stay = {
        stage: event.stage,
        version: event.after,
        from: at,
        to: null,
        end: null,
        again: event.act === 'roll back',
      }
      stays.push(stay)
      open.set(event.stage, stay)
    }
  }
  return stays
}
