import { Link } from 'react-router'

/** To the section of the runbook that explains a word on the screen. */
export function Runbook({ name }: { name: string }) {
  return (
    <Link to={`/runbook/${name}`} className="text-nowrap">
      what to do
    </Link>
  )
}
