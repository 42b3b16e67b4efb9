import { type ReactNode, useMemo, useState } from 'react'
import type { Self } from '../api/types'
import { ActingContext, allows, type Wish } from './acting'
import { Drawer } from './Drawer'

/** Lets everything below ask for changes; what is asked for opens as a plan. */
export function Acting({ self, children }: { self: Self; children: ReactNode }) {
  const [wish, setWish] = useState<Wish | null>(null)
  const acting = useMemo(
    () => ({ user: self.user, may: (level: Parameters<typeof allows>[1]) => allows(self.level, level), open: setWish }),
    [self.user, self.level],
  )
  return (
    <ActingContext value={acting}>
      {children}
      {wish && <Drawer wish={wish} self={self} onClose={() => setWish(null)} />}
    </ActingContext>
  )
}
