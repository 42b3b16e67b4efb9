import { Col, Row } from 'react-bootstrap'
import type { Status } from './api'
import { OperationCard } from './OperationCard'
import { WorkloadCard } from './WorkloadCard'
import { WriteGraph } from './WriteGraph'
import { QuorumMeter, ZoneMap } from './ZoneMap'

export function Now({ status }: { status: Status }) {
  const newest = status.operations[0]
  return (
    <>
      <QuorumMeter status={status} />
      <Row className="g-2">
        {status.workloads.map((w) => (
          <Col md={12} key={w.workload}>
            <WorkloadCard workload={w} />
          </Col>
        ))}
        <Col md={7}>
          <ZoneMap status={status} />
        </Col>
        <Col md={5} className="d-flex flex-column gap-2">
          {status.workloads.map((w) => (
            <WriteGraph workload={w} key={w.workload} />
          ))}
          {newest && <OperationCard operation={newest} />}
        </Col>
        <Col md={12}>
          <Findings status={status} />
        </Col>
      </Row>
    </>
  )
}

function Findings({ status }: { status: Status }) {
  if (status.findings.length === 0) return null
  return (
    <details>
      <summary>{status.findings.length} findings</summary>
      {status.findings.map((f) => (
        <p key={f.path.join('.') + f.what} className="mb-1 mt-2 small">
          {f.severity === 'error' ? '■' : '▲'} <code>{f.path.join('.')}</code> {f.what}. <em>{f.remedy}.</em> <a href="/runbook">runbook: {f.kind}</a>
        </p>
      ))}
    </details>
  )
}
