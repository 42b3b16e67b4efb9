import { createContext, useEffect, useState } from 'react'
import type { StatusReply } from './api'

// A number older than this is not shown as a live one.
const STALE_MS = 4000

/** Whether what is shown was not heard again for a while. */
export const Stale = createContext(false)

export type Live = { reply: StatusReply | null; stale: boolean }

/** The status as it changes, over server-sent events; `stale` when nothing was heard for a while. */
export function useLive(): Live {
  const [reply, setReply] = useState<StatusReply | null>(null)
  const [stale, setStale] = useState(false)
  useEffect(() => {
    const source = new EventSource('/api/v1/live')
    let lost: ReturnType<typeof setTimeout> | undefined
    // A node that loses its power says no goodbye: its stream just stays silent, and no error is raised.
    const heard = () => {
      clearTimeout(lost)
      setStale(false)
      lost = setTimeout(() => setStale(true), STALE_MS)
    }
    heard()
    source.addEventListener('status', (event) => {
      setReply(JSON.parse((event as MessageEvent<string>).data) as StatusReply)
      heard()
    })
    source.addEventListener('alive', heard)
    return () => {
      clearTimeout(lost)
      source.close()
    }
  }, [])
  return { reply, stale }
}
