import type { components } from './schema'

// The parts of the HTTP interface that the console reads: their types are made from docs/openapi.json at each build.
type Schemas = components['schemas']

export type Condition = Schemas['Condition']
export type Writes = Schemas['WritesView']
export type NodeView = Schemas['NodeView']
export type Workload = Schemas['WorkloadView']
export type Author = Schemas['Author']
export type Operation = Schemas['Progress']
export type Status = Schemas['Status']
export type StatusReply = Schemas['StatusReply']
export type Endpoint = Schemas['Endpoint']
export type Event = Schemas['Record']
export type HistoryReply = Schemas['HistoryReply']
type Problem = Schemas['Problem']

export const authorName = (author: Author) =>
  author === 'cluster' ? author : author.person.name + (author.person.through ? ` through ${author.person.through}` : '')

/** Reads one thing; an error says what the service says. */
export async function read<T>(path: string): Promise<T> {
  const response = await fetch(path)
  if (!response.ok) throw new Error(((await response.json()) as Problem).detail)
  return (await response.json()) as T
}

export async function signIn(token: string): Promise<string | null> {
  const response = await fetch('/api/v1/session', {
    method: 'POST',
    headers: { 'Content-Type': 'application/json' },
    body: JSON.stringify({ token }),
  })
  return response.ok ? null : ((await response.json()) as Problem).detail
}

export async function signOut(): Promise<void> {
  await fetch('/api/v1/session', { method: 'DELETE', headers: { 'Content-Type': 'application/json' } })
}

export async function isSignedIn(): Promise<boolean> {
  return (await fetch('/api/v1/self')).ok
}
