import { useEffect } from 'react'
import type { Live } from '../api/live'
import { SIGNS } from '../parts/State'

/** The browser's tab says how things are, too. */
export function useTab({ reply, stale }: Live) {
  useEffect(() => {
    if (!reply) return
    const condition = stale ? 'unknown' : reply.status.condition
    document.title = `${SIGNS[condition]} ${condition}: ${reply.status.cluster}`
    const icon = document.querySelector<HTMLLinkElement>('link[rel=icon]')
    const shape = `<svg xmlns='http://www.w3.org/2000/svg' viewBox='0 0 16 16'><text y='14' font-size='16'>${SIGNS[condition]}</text></svg>`
    if (icon) icon.href = `data:image/svg+xml,${encodeURIComponent(shape)}`
  }, [reply, stale])
}
