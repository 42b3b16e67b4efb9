import { Table } from 'react-bootstrap'
import { Link } from 'react-router'
import { useWallClock } from '../api/live'
import type { Operation } from '../api/types'
import { authorName, span, utc } from '../words'
import { kindText, OutcomeWord } from './OperationCard'
import { total } from './Phases'
import { Heads } from './Facts'

export function OperationRows({ operations }: { operations: Operation[] }) {
  const wall = useWallClock()
  if (operations.length === 0) return <p className="quiet mb-0">None is remembered; the history has older ones.</p>
  return (
    <Table size="sm" className="mb-0" id="operations">
      <Heads names={['Operation', 'UTC', 'What', 'From, to', 'Why, by whom', 'Took', 'Came to']} />
      <tbody>
        {operations.map((o) => (
          <tr key={o.id}>
            <td>
              <Link to={`/operations/${o.id}`}>op-{o.id}</Link>
            </td>
            <td className="text-nowrap">{o.steps[0] ? utc(wall(o.steps[0].at)) : ''}</td>
            <td>
              {kindText(o.what.kind)} of {o.what.workload}
            </td>
            <td className="text-nowrap">
              {o.what.from ?? 'nobody'} → {o.target ?? o.what.to ?? '…'}
            </td>
            <td>
              {o.what.why}, {authorName(o.what.by)}
            </td>
            <td className="text-nowrap">{o.phases.length ? span(total(o.phases)) : ''}</td>
            <td>
              <OutcomeWord operation={o} />
            </td>
          </tr>
        ))}
      </tbody>
    </Table>
  )
}
