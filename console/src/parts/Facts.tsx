import { Fragment, type ReactNode } from 'react'

/** Names and their values, one below the other. */
export function Facts({ rows }: { rows: [string, ReactNode][] }) {
  return (
    <dl className="facts-list">
      {rows.map(([name, value]) => (
        <Fragment key={name}>
          <dt>{name}</dt>
          <dd style={{ overflowWrap: 'anywhere' }}>{value}</dd>
        </Fragment>
      ))}
    </dl>
  )
}

/** The names of a table's columns. */
export function Heads({ names }: { names: string[] }) {
  return (
    <thead>
      <tr>
        {names.map((name) => (
          <th scope="col" key={name}>
            {name}
          </th>
        ))}
      </tr>
    </thead>
  )
}
