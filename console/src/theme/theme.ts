import { useSyncExternalStore } from 'react'

export type Theme = 'system' | 'light' | 'dark'
const KEY = 'karst-theme'
const dark = window.matchMedia('(prefers-color-scheme: dark)')
const listeners = new Set<() => void>()

function chosen(): Theme {
  const kept = localStorage.getItem(KEY)
  return kept === 'light' || kept === 'dark' ? kept : 'system'
}

/** Follows the system until a person chooses. */
export function applyTheme() {
  const theme = chosen()
  const look = theme === 'system' ? (dark.matches ? 'dark' : 'light') : theme
  document.documentElement.dataset.bsTheme = look
  listeners.forEach((changed) => changed())
}

export function choose(theme: Theme) {
  if (theme === 'system') localStorage.removeItem(KEY)
  else localStorage.setItem(KEY, theme)
  applyTheme()
}

dark.addEventListener('change', applyTheme)

export function useTheme(): Theme {
  return useSyncExternalStore((changed) => {
    listeners.add(changed)
    return () => listeners.delete(changed)
  }, chosen)
}
