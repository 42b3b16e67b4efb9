import { createContext, useContext, useEffect, useState } from 'react'
import type { Status, StatusReply } from './types'

/** A number older than this is not shown as a live one: three signs of life have not come. */
const STALE_MS = 1700
/** So long after a node was heard last another one is looked for. */
const LOOK_ELSEWHERE_MS = 5000
const RETRY_MS = 500

export type Live = {
  reply: StatusReply | null
  stale: boolean
  /** When anything was heard last, by this browser's clock. */
  heardAt: number
  /** What is being done about silence. */
  trying: 'nothing' | 'again' | 'elsewhere'
}

const NOTHING: Live = { reply: null, stale: false, heardAt: 0, trying: 'nothing' }

/** Where the same page is at another node that answers; with what that node takes instead of a token. */
async function elsewhere(status: Status, ticket: string | null): Promise<string | null> {
  const urls = status.nodes.map((n) => n.console).filter((url) => url != null && new URL(url).origin !== location.origin)
  const answers = urls.map(async (url) => {
    // What it says is not for this page: that it says something is enough.
    await fetch(`${url}/api/v1/self`, { mode: 'no-cors', credentials: 'omit', signal: AbortSignal.timeout(1500) })
    return `${url}${location.pathname}${location.search}${ticket ? `#ticket=${ticket}` : ''}`
  })
  return Promise.any(answers).catch(() => null)
}

/**
 * The status as it changes, over server-sent events. A stream that breaks is opened again; where its node stays silent,
 * the page goes on at another one.
 */
export function useLive(onSignedOut: () => void): Live {
  const [live, setLive] = useState(NOTHING)
  useEffect(() => {
    let source: EventSource | null = null
    let newest: Status | null = null
    let ticket: string | null = null
    let heardAt = Date.now()
    let looking = false
    let ended = false
    const heard = (reply?: StatusReply) => {
      heardAt = Date.now()
      newest = reply?.status ?? newest
      setLive((before) => ({ reply: reply ?? before.reply, stale: false, heardAt, trying: 'nothing' }))
    }
    const open = () => {
      source?.close()
      source = new EventSource('/api/v1/live')
      source.addEventListener('status', (event) => heard(JSON.parse((event as MessageEvent<string>).data) as StatusReply))
      source.addEventListener('alive', () => heard())
      source.addEventListener('ticket', (event) => {
        ticket = (event as MessageEvent<string>).data
      })
    }
    const lookElsewhere = async () => {
      if (looking || !newest) return
      looking = true
      const url = await elsewhere(newest, ticket)
      looking = false
      if (url && !ended && Date.now() - heardAt > STALE_MS) location.assign(url)
    }
    // A node that loses its power says no goodbye: its stream just stays silent, and no error is raised.
    const look = async () => {
      const silent = Date.now() - heardAt
      if (silent > STALE_MS) setLive((before) => ({ ...before, stale: true, trying: silent > LOOK_ELSEWHERE_MS ? 'elsewhere' : 'again' }))
      if (silent > LOOK_ELSEWHERE_MS) void lookElsewhere()
      if (source?.readyState !== EventSource.CLOSED && silent < STALE_MS) return
      const answer = await fetch('/api/v1/self', { signal: AbortSignal.timeout(1500) }).catch(() => null)
      if (ended) return
      if (answer?.status === 401) onSignedOut()
      else if (answer?.ok) open()
    }
    open()
    const timer = setInterval(() => void look(), RETRY_MS)
    return () => {
      ended = true
      clearInterval(timer)
      source?.close()
    }
  }, [onSignedOut])
  return live
}

export const LiveContext = createContext<Live>(NOTHING)

/** The newest status; only below a frame that has one. */
export function useStatus(): Status {
  const { reply } = useContext(LiveContext)
  if (!reply) throw new Error('there is no status yet')
  return reply.status
}

/** A moment of the asked node's steady clock as milliseconds since the Unix epoch. */
export function useWallClock(): (steady: number) => number {
  const { reply } = useContext(LiveContext)
  if (!reply) return () => NaN
  const now = Date.parse(reply.at)
  return (steady) => now - (reply.status.at - steady) / 1e6
}
