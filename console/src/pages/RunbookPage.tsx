import { Card } from 'react-bootstrap'
import { useParams } from 'react-router'
import { useRunbook } from '../api/queries'

/** Its text has paragraphs, `code` and **weight**, and nothing else. */
function Text({ text }: { text: string }) {
  const parts = text.split(/(`[^`]+`|\*\*[^*]+\*\*)/)
  return parts.map((part, i) => {
    if (part.startsWith('`')) return <code key={i}>{part.slice(1, -1)}</code>
    if (part.startsWith('**')) return <strong key={i}>{part.slice(2, -2)}</strong>
    return part
  })
}

/** What one word on the screen means, and what to do. */
export function RunbookPage() {
  const { name } = useParams()
  const sections = useRunbook().data
  if (!sections) return <p>Reading ...</p>
  const section = sections.find((s) => s.name === name)
  return (
    <Card style={{ maxWidth: 820 }}>
      <Card.Header as="h1">{name}</Card.Header>
      <Card.Body>
        {section ? (
          section.text.split(/\n\n+/).map((paragraph) => (
            <p key={paragraph}>
              <Text text={paragraph} />
            </p>
          ))
        ) : (
          <p>The runbook has nothing of that name.</p>
        )}
        <a href="/runbook">the whole runbook</a>
      </Card.Body>
    </Card>
  )
}
