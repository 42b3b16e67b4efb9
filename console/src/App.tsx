import { useEffect, useState } from 'react'
import { Container } from 'react-bootstrap'
import { isSignedIn } from './api'
import { Now } from './Now'
import { SignIn } from './SignIn'

export function App() {
  const [known, setKnown] = useState<boolean | null>(null)
  useEffect(() => {
    isSignedIn().then(setKnown, () => setKnown(false))
  }, [])
  if (known === null) return null
  return <Container className="py-3">{known ? <Now /> : <SignIn onDone={() => setKnown(true)} />}</Container>
}
