import { useState } from 'react'
import { Button } from 'react-bootstrap'
import { Check2, Copy as CopyIcon } from 'react-bootstrap-icons'

/** Puts a text on the clipboard. */
export function Copy({ text, what }: { text: string; what: string }) {
  const [done, setDone] = useState('')
  const said = done === text ? 'copied' : done
  return (
    <Button
      size="sm"
      variant="outline-secondary"
      className="text-nowrap"
      aria-label={`copy ${what}`}
      onClick={() => navigator.clipboard.writeText(text).then(() => setDone(text), () => setDone('not allowed'))}
    >
      {said === 'copied' ? <Check2 aria-hidden /> : <CopyIcon aria-hidden />} {said || 'copy'}
    </Button>
  )
}
