import type { components } from './schema'

// The parts of the HTTP interface that the console reads: their types are made from docs/openapi.json at each build.
type Schemas = components['schemas']

export type Condition = Schemas['Condition']
export type Writes = Schemas['WritesView']
export type Need = Schemas['NeedView']
export type NodeView = Schemas['NodeView']
export type About = Schemas['AboutView']
export type Workload = Schemas['WorkloadView']
export type Replica = Schemas['ReplicaView']
export type Gate = Schemas['GateView']
export type Name = Schemas['NameView']
export type Reads = Schemas['ReadsView']
export type SafetyPointView = Schemas['SafetyPointView']
export type Author = Schemas['Author']
export type Mode = Schemas['Mode']
export type Operation = Schemas['Progress']
export type Finding = Schemas['FindingView']
export type Status = Schemas['Status']
export type StatusReply = Schemas['StatusReply']
export type Endpoint = Schemas['Endpoint']
export type Event = Schemas['Record']
export type HistoryReply = Schemas['HistoryReply']
export type WrittenReply = Schemas['WrittenReply']
export type SpecReply = Schemas['SpecReply']
export type Self = Schemas['SelfReply']
export type Plan = Schemas['Plan']
export type IntentPlan = Schemas['IntentPlan']
export type Intent = Schemas['IntentView']
export type IntentOver = Schemas['IntentOver']
export type Todo = Schemas['TodoView']
export type PastRevision = Schemas['PastRevision']
export type RevisionReply = Schemas['RevisionReply']
export type NodePlan = Schemas['NodePlan']
export type Report = Schemas['OperationReport']
export type Started = Schemas['StartedReply']
export type Changed = Schemas['ChangedReply']
export type PowerWish = Schemas['PowerWish']
type Problem = Schemas['Problem']

/** What the service says of a call that it refuses. */
export class Refused extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail)
  }
}
export type { Problem }
