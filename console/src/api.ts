// The parts of the HTTP interface that the console reads. Durations come as {secs, nanos}, positions as numbers.

export type Condition = 'healthy' | 'settling' | 'weakened' | 'down'
export type Duration = { secs: number; nanos: number }

export type NodeView = {
  node: string
  zone: string
  votes: number
  /** None while that is not known. */
  votes_count: boolean | null
  witness: boolean
  state: string
  silent_ms: number
  does_not_hear: string[]
  /** Of whose heartbeats it misses some, in per cent. */
  misses: Record<string, number>
  fenced: string | null
  power: string | null
}

/** What its own node says of a server; positions are places in the write-ahead log. */
export type Seen = {
  runs: boolean
  timeline: number
  position: number | null
  received: number | null
  replayed: number | null
  standbys: { node: string; streaming: boolean; sent: number | null; flushed: number | null; replayed: number | null }[]
}

export type Replica = {
  node: string
  state: string
  detail: string
  address: string
  in_sync_set: boolean
  lag: number | null
  rank: number
  report: { seen: Seen | null } | null
}

export type Gate = { node: string; address: string; forwards_to: string | null; report: { flows: number; waiting: number } | null }

export type Workload = {
  workload: string
  condition: Condition
  sentence: string
  next: string | null
  epoch: number
  mode: string
  primary: string | null
  replicas: Replica[]
  candidates: { node: string; excluded: string | null; rank: number }[]
  gates: Gate[]
  address: { on: string[]; holder: string | null; held: boolean; flows: number; remark: string | null } | null
  sync: { number: number; sure: string[] }
  operation: number | null
}

export type Step = { text: string; phase: string | null; at: number }

/** The cluster by itself, or a person, who may have asked through another node. */
export type Author = 'cluster' | { person: { name: string; through: string | null } }

export const authorName = (author: Author) =>
  author === 'cluster' ? author : author.person.name + (author.person.through ? ` through ${author.person.through}` : '')

export type Operation = {
  id: number
  what: { kind: string; workload: string; from: string | null; to: string | null; by: Author; why: string }
  waits: boolean
  steps: Step[]
  target: string | null
  outcome: { result: string; why?: string } | null
  phases: [string, Duration][]
}

export type Status = {
  cluster: string
  seen_by: string
  coordinator: string | null
  term: number
  applied: number
  condition: Condition
  sentence: string
  quorum: { total: number; needed: number; heard: number; cannot_lose: string[] }
  nodes: NodeView[]
  workloads: Workload[]
  operations: Operation[]
  findings: { severity: string; path: string[]; what: string; remedy: string }[]
}

export type StatusReply = { complete: boolean; status: Status; history: { reachable: boolean; waiting: number }; at: string }

export type Endpoint = { purpose: string; text: string; reaches: string | null }

export type Event = {
  at: string
  node: string
  number: number
  level: string
  kind: string
  text: string
  workload: string | null
  operation: number | null
  index: number | null
  data: Record<string, string>
}

export type HistoryReply = { records: Event[]; own_only: boolean }

/** Reads one thing; an error says what the service says. */
export async function read<T>(path: string): Promise<T> {
  const response = await fetch(path)
  if (!response.ok) throw new Error(((await response.json()) as { detail: string }).detail)
  return (await response.json()) as T
}

export async function signIn(token: string): Promise<string | null> {
  const response = await fetch('/api/v1/session', {
    method: 'POST',
    headers: { 'Content-Type': 'application/json' },
    body: JSON.stringify({ token }),
  })
  return response.ok ? null : ((await response.json()) as { detail: string }).detail
}

export async function signOut(): Promise<void> {
  await fetch('/api/v1/session', { method: 'DELETE', headers: { 'Content-Type': 'application/json' } })
}

export async function isSignedIn(): Promise<boolean> {
  return (await fetch('/api/v1/self')).ok
}

export const millis = (d: Duration) => d.secs * 1000 + d.nanos / 1e6
