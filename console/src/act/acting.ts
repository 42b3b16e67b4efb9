import { createContext, useContext } from 'react'
import type { Mode, PowerWish } from '../api/types'

/** What somebody wants done. */
export type Wish =
  | { act: 'switchover'; workload: string }
  | { act: 'failover'; workload: string }
  | { act: 'mode'; workload: string; mode: Mode }
  | { act: 'approve'; operation: number }
  | { act: 'fence' | 'readmit' | 'enrol'; node: string }
  | { act: 'power'; node: string; what: PowerWish }
  | { act: 'acknowledge' | 'forget'; finding: string }
  | { act: 'rest'; node: string }
  | { act: 'restart'; workload: string }
  | { act: 'keep' | 'go-back'; workload: string }
  | { act: 'end'; operation: number }

export type Level = 'observe' | 'operate' | 'administer'
const LEVELS: Level[] = ['observe', 'operate', 'administer']

/** What a token has to allow for it. */
export function needs(wish: Pick<Wish, 'act'>): Level {
  return ['fence', 'enrol', 'power', 'go-back'].includes(wish.act) ? 'administer' : 'operate'
}

export const allows = (has: string, needed: Level) => LEVELS.indexOf(has as Level) >= LEVELS.indexOf(needed)

export type Acting = {
  user: string
  may: (level: Level) => boolean
  /** Opens the drawer with its plan. */
  open: (wish: Wish) => void
}

export const ActingContext = createContext<Acting>({ user: '', may: () => false, open: () => undefined })
export const useActing = () => useContext(ActingContext)
