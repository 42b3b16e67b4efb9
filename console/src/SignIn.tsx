import { type FormEvent, useState } from 'react'
import { Alert, Button, Card, Form } from 'react-bootstrap'
import { signIn } from './api'

export function SignIn({ onDone }: { onDone: () => void }) {
  const [token, setToken] = useState('')
  const [problem, setProblem] = useState<string | null>(null)
  const submit = async (event: FormEvent) => {
    event.preventDefault()
    const refused = await signIn(token).catch(() => 'the node does not answer')
    if (refused === null) onDone()
    else setProblem(refused)
  }
  return (
    <Card className="mx-auto mt-5" style={{ maxWidth: '26rem' }}>
      <Card.Body>
        <Card.Title>Karst</Card.Title>
        <Form onSubmit={submit}>
          <Form.Group controlId="token" className="mb-3">
            <Form.Label>Access token</Form.Label>
            <Form.Control type="password" autoComplete="current-password" value={token} onChange={(e) => setToken(e.target.value)} />
          </Form.Group>
          {problem && <Alert variant="danger">{problem}</Alert>}
          <Button type="submit">Sign in</Button>
        </Form>
      </Card.Body>
    </Card>
  )
}
