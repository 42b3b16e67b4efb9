import { useEffect, useState, useSyncExternalStore } from 'react'
import { Container, Nav } from 'react-bootstrap'
import { isSignedIn, type Status } from './api'
import { Frame } from './Frame'
import { HistoryPage } from './HistoryPage'
import { Now } from './Now'
import { OperationPage } from './OperationPage'
import { SignIn } from './SignIn'
import { WorkloadPage } from './WorkloadPage'

// The place in the console is the part of the address behind the hash, so that it can be sent to a colleague.
const onPlace = (changed: () => void) => {
  window.addEventListener('hashchange', changed)
  return () => window.removeEventListener('hashchange', changed)
}
const place = () => window.location.hash.slice(2)

export function App() {
  const [known, setKnown] = useState<boolean | null>(null)
  useEffect(() => {
    isSignedIn().then(setKnown, () => setKnown(false))
  }, [])
  if (known === null) return null
  return <Container className="py-2">{known ? <Frame onSignedOut={() => setKnown(false)}>{(status) => <Pages status={status} />}</Frame> : <SignIn onDone={() => setKnown(true)} />}</Container>
}

function Pages({ status }: { status: Status }) {
  const [page = '', name = ''] = useSyncExternalStore(onPlace, place).split('/')
  const links = [
    ['', 'Now'],
    ['operation', 'Operations'],
    ['history', 'History'],
    ...status.workloads.map((w) => [`workload/${w.workload}`, w.workload]),
  ] as [string, string][]
  const here = page === 'workload' ? `workload/${name}` : page
  return (
    <>
      <Nav variant="underline" activeKey={here} className="mb-2">
        {links.map(([key, text]) => (
          <Nav.Item key={key}>
            <Nav.Link eventKey={key} href={`#/${key}`}>
              {text}
            </Nav.Link>
          </Nav.Item>
        ))}
      </Nav>
      {page === 'operation' ? (
        <OperationPage status={status} id={name} />
      ) : page === 'history' ? (
        <HistoryPage key={name} applied={status.applied} operation={name} />
      ) : page === 'workload' ? (
        <WorkloadPage status={status} name={name} />
      ) : (
        <Now status={status} />
      )}
    </>
  )
}
