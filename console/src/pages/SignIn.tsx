import { type FormEvent, useState } from 'react'
import { Alert, Button, Card, Form } from 'react-bootstrap'
import { signIn } from '../api/call'
import { Mark } from '../frame/Mark'

export function SignIn({ why, onDone }: { why: string | null; onDone: () => void }) {
  const [token, setToken] = useState('')
  const [error, setError] = useState(why)
  const submit = (event: FormEvent) => {
    event.preventDefault()
    signIn(token).then(onDone, (e: Error) => setError(e.message))
  }
  return (
    <main className="d-flex justify-content-center" style={{ paddingTop: '14vh' }}>
      <Card style={{ width: 420 }}>
        <Card.Body as="form" onSubmit={submit} className="stack">
          <h1 className="d-flex gap-2 align-items-center">
            <Mark /> Karst at {location.hostname}
          </h1>
          <Form.Group>
            <Form.Label htmlFor="token">Access token</Form.Label>
            <Form.Control id="token" type="password" autoFocus autoComplete="current-password" value={token} onChange={(e) => setToken(e.target.value)} />
            <Form.Text>An administrator gives you one; what it allows is in the cluster's token file.</Form.Text>
          </Form.Group>
          {error && (
            <Alert variant="danger" className="py-2 mb-0">
              {error}
            </Alert>
          )}
          <Button type="submit">Sign in</Button>
        </Card.Body>
      </Card>
    </main>
  )
}
