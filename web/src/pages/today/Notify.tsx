/** Desktop notifications of runs that end, for whoever allows them; while Today is open, also behind other windows. */
import { useEffect, useRef, useState } from 'react'
import type { Schemas } from '../../api/client'
import { BELOW } from '../../api/place'

const CHOICE = 'kinetrum-notify'

// Browsers offer them on secure addresses and on this machine only.
const offered = () => typeof Notification !== 'undefined' && window.isSecureContext

export function Notify({ data }: { data: Schemas['Today'] }) {
  const [on, setOn] = useState(
    () => offered() && Notification.permission === 'granted' && localStorage.getItem(CHOICE) === 'on',
  )
  const [refused, setRefused] = useState(false)
  const running = useRef(new Set<string>())
  useEffect(() => {
    const before = running.current
    running.current = new Set(data.running.map((run) => `${run.project}/${run.reference}`))
    if (!on) return
    for (const run of data.ended) {
      if (!before.has(`${run.project}/${run.reference}`)) continue
      const shown = new Notification(`${run.reference} ${run.status}`, {
        body: run.look ?? run.name ?? run.project,
        tag: `${run.project}/${run.reference}`,
      })
      shown.onclick = () => {
        window.focus()
        window.location.assign(`${BELOW}/${run.project}/e/${run.reference}`)
      }
    }
  }, [data, on])
  if (!offered()) return null
  const toggle = async () => {
    if (on) {
      localStorage.removeItem(CHOICE)
      setOn(false)
      return
    }
    const allowed = (await Notification.requestPermission()) === 'granted'
    setRefused(!allowed)
    if (allowed) localStorage.setItem(CHOICE, 'on')
    setOn(allowed)
  }
  return (
    <span className="flex items-center gap-2">
      {refused && (
        <span role="status" className="text-xs text-bad">
          The browser does not allow it for this site.
        </span>
      )}
      <button className="btn leading-[18px]" aria-pressed={on} onClick={() => void toggle()}>
        {on ? 'Notifying me of endings' : 'Notify me of endings'}
      </button>
    </span>
  )
}
