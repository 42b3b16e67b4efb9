// The parts of the HTTP interface that the console reads. Durations come as {secs, nanos}, positions as numbers.

export type Condition = 'healthy' | 'settling' | 'weakened' | 'down'
export type Duration = { secs: number; nanos: number }

export type NodeView = {
  node: string
  zone: string
  votes: number
  witness: boolean
  state: string
  silent_ms: number
  does_not_hear: string[]
}

export type Replica = {
  node: string
  state: string
  detail: string
  address: string
  in_sync_set: boolean
  lag: number | null
}

export type Gate = { node: string; address: string; forwards_to: string | null; report: { flows: number; waiting: number } | null }

export type Workload = {
  workload: string
  condition: Condition
  sentence: string
  next: string | null
  epoch: number
  primary: string | null
  replicas: Replica[]
  candidates: { node: string; excluded: string | null }[]
  gates: Gate[]
  operation: number | null
}

export type Step = { text: string; phase: string | null; at: number }

export type Operation = {
  id: number
  what: { kind: string; workload: string; from: string | null; to: string | null; by: string; why: string }
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
  condition: Condition
  sentence: string
  quorum: { total: number; needed: number; heard: number; cannot_lose: string[] }
  nodes: NodeView[]
  workloads: Workload[]
  operations: Operation[]
  findings: { severity: string; path: string[]; what: string; remedy: string }[]
}

export type StatusReply = { complete: boolean; status: Status; history: { reachable: boolean; waiting: number }; at: string }

export async function signIn(token: string): Promise<string | null> {
  const response = await fetch('/api/v1/session', {
    method: 'POST',
    headers: { 'Content-Type': 'application/json' },
    body: JSON.stringify({ token }),
  })
  return response.ok ? null : ((await response.json()) as { detail: string }).detail
}

export async function isSignedIn(): Promise<boolean> {
  return (await fetch('/api/v1/self')).ok
}

export const millis = (d: Duration) => d.secs * 1000 + d.nanos / 1e6
