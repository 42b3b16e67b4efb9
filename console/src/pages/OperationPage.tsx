import { Button, Card, Table } from 'react-bootstrap'
import { Download } from 'react-bootstrap-icons'
import { Link, useParams } from 'react-router'
import { useActing } from '../act/acting'
import { useStatus, useWallClock } from '../api/live'
import { useReport, useReportText, useWritten } from '../api/queries'
import type { Operation, Report } from '../api/types'
import { Chart, type Mark } from '../parts/Chart'
import { Copy } from '../parts/Copy'
import { IntentCard, OverCard } from '../parts/Intents'
import { kindText, OutcomeWord } from '../parts/OperationCard'
import { Phases, total } from '../parts/Phases'
import { Shape } from '../parts/State'
import { Steps } from '../parts/Steps'
import { authorName, bytes, span, utc } from '../words'
import { Facts, Heads } from '../parts/Facts'

export function OperationPage() {
  // As people write it, too: op-12.
  const { id: name = '' } = useParams()
  const id = Number(name.replace(/^op-/, ''))
  const status = useStatus()
  const intent = status.intents.find((i) => i.id === id)
  const over = status.intents_over.find((i) => i.id === id)
  if (!Number.isSafeInteger(id) || id <= 0) return <p>There is no operation “{name}”: an operation is a number, such as op-12.</p>
  if (intent) return <IntentCard intent={intent} />
  return over ? <OverCard over={over} /> : <Move id={id} />
}

function Move({ id }: { id: number }) {
  const operation = useStatus().operations.find((o) => o.id === id)
  const { data: report, error } = useReport(id)
  if (!report && !operation) return <p>{error ? error.message : 'Reading ...'}</p>
  return (
    <div className="stack">
      <Head id={id} operation={operation} report={report} />
      <Card>
        <Card.Header as="h2">Where the time went</Card.Header>
        <Card.Body className="stack">
          <Phases phases={operation?.phases ?? report?.phases ?? []} worst={report?.worst_case_ms} />
          {operation && <WritesAround operation={operation} worst={report?.worst_case_ms ?? 0} />}
        </Card.Body>
      </Card>
      <div className="two">
        <Card>
          <Card.Header as="h2">What happened</Card.Header>
          <Card.Body>{operation && operation.outcome == null ? <Steps operation={operation} /> : <Timeline report={report} />}</Card.Body>
        </Card>
        <After report={report} />
      </div>
    </div>
  )
}

function Head({ id, operation, report }: { id: number; operation: Operation | undefined; report: Report | undefined }) {
  const { open } = useActing()
  const text = useReportText(id).data
  const what = operation?.what ?? report?.what
  const link = (format: string) => `/api/v1/operations/${id}/report?format=${format}`
  return (
    <div className="d-flex flex-wrap gap-3 align-items-center" id="operation" data-operation={id}>
      <div className="say">
        <h1>
          op-{id}: {what ? `${kindText(what.kind)} of ${what.workload}` : report?.workload}
        </h1>
        <div>
          {operation && (
            <strong className="me-2">
              <OutcomeWord operation={operation} />
            </strong>
          )}
          {what && (
            <>
              {what.why}, by {authorName(what.by)}; from {what.from ?? 'nobody'} to {operation?.target ?? report?.target ?? what.to ?? 'whom it finds'}
            </>
          )}
        </div>
      </div>
      {operation?.waits && (
        <Button size="sm" onClick={() => open({ act: 'approve', operation: id })}>
          Approve
        </Button>
      )}
      {text && <Copy text={text} what="the report" />}
      {['markdown', 'json', 'svg'].map((format) => (
        <a key={format} className="btn btn-sm btn-outline-secondary" href={link(format)} download={`op-${id}.${format === 'markdown' ? 'md' : format}`}>
          <Download aria-hidden /> {format}
        </a>
      ))}
    </div>
  )
}

/** The clients' writes around it, on an axis of seconds from its first step on. */
function WritesAround({ operation: o, worst }: { operation: Operation; worst: number }) {
  const spans = useWritten(o.what.workload, o.outcome ? 5_000 : 500).data?.spans ?? []
  const wall = useWallClock()
  const begin = wall(o.steps[0]?.at ?? 0)
  // The loss itself comes before the first step, by what it took to see it.
  const seen = o.phases.find((p) => p.phase === 'detect')?.ms ?? 0
  const lost = begin - seen
  const ended = lost + total(o.phases)
  const from = lost - 6_000
  const until = Math.max(lost + worst, ended + 8_000)
  const shown = spans.filter((s) => s.until_ms > from - 5_000 && s.until_ms - s.ms < until)
  if (shown.length === 0) return <p className="small quiet mb-0">What clients wrote then is not remembered any more: it is for an hour.</p>
  // What is planned goes on being written until the old primary is told to stop.
  const planned = o.what.kind === 'switchover' ? (o.phases.find((p) => p.phase === 'decide')?.ms ?? 0) : 0
  const marks: Mark[] = [
    { from: planned / 1000, to: (ended - lost) / 1000, label: 'no writes', colour: '--down-bg' },
    ...(worst ? [{ from: worst / 1000, label: `${span(worst)} at most` }] : []),
  ]
  return (
    <div>
      <div className="small quiet mb-1">log written per second, on seconds since the loss</div>
      <Chart
        label="what clients wrote around it"
        times={shown.map((s) => (s.until_ms - lost) / 1000)}
        lines={[{ label: 'written', values: shown.map((s) => (s.bytes == null || s.ms === 0 ? null : (s.bytes * 1000) / s.ms)), fill: true }]}
        marks={marks}
        range={[(from - lost) / 1000, (until - lost) / 1000]}
        unit={(value) => `${bytes(value)}/s`}
        stepped
      />
    </div>
  )
}

function Timeline({ report }: { report: Report | undefined }) {
  if (!report) return <>Reading ...</>
  return (
    <Table size="sm" className="mb-0" id="timeline">
      <Heads names={['UTC', 'ms', 'Node', 'What']} />
      <tbody>
        {report.timeline.map((line, i) => (
          <tr key={i}>
            <td className="text-nowrap">{line.at.slice(11, 23)}</td>
            <td className="text-end">{line.ms}</td>
            <td>{line.node}</td>
            <td>{line.text}</td>
          </tr>
        ))}
      </tbody>
    </Table>
  )
}

function After({ report: r }: { report: Report | undefined }) {
  if (!r) return null
  const rows: [string, string][] = [
    ['began', r.began ? `${utc(r.began, true)} UTC` : 'not on record'],
    ['ended', r.ended ? `${utc(r.ended, true)} UTC` : 'not yet'],
    ['acknowledged writes', r.data],
    ['protected again', r.protected ? `${utc(r.protected, true)} UTC` : 'not on record yet'],
  ]
  return (
    <Card>
      <Card.Header as="h2">What it left behind</Card.Header>
      <Card.Body className="stack" style={{ gap: 12 }}>
        <Facts rows={rows} />
        <div>
          <h3>Who voted</h3>
          {r.elections.length === 0 && <span className="quiet">No coordinator was elected for it: the one that was there acted.</span>}
          {r.elections.map((line) => (
            <div key={line.at}>
              <Shape condition="healthy" /> {utc(line.at, true)} UTC: {line.text}
            </div>
          ))}
        </div>
        <Link to={`/history?operation=${r.id}`}>all of it in the history</Link>
      </Card.Body>
    </Card>
  )
}
