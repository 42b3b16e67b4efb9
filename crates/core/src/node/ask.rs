//! Requests of people: what the coordinator answers, and plans before anything is changed.

use super::{Effect, Node};
use crate::ids::{NodeId, OperationId, WorkloadId};
use crate::message::Message;
use crate::operation::{Kind, Operation};
use crate::replica::{Observation, ReplicaReport, Role};
use crate::spec::Loss;
use crate::state::{Command, Tenure};
use crate::steward::candidates;
use crate::view::Status;
use serde::{Deserialize, Serialize};

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Request {
    Status,
    /// What the asked node knows by itself; never passed on.
    OwnStatus,
    /// A planned move; without a target the best candidate is taken.
    Switchover {
        workload: WorkloadId,
        to: Option<NodeId>,
        by: String,
        plan_only: bool,
    },
    /// A move that does not wait for the old primary's clean stop.
    Failover {
        workload: WorkloadId,
        to: NodeId,
        by: String,
        plan_only: bool,
    },
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub enum Answer {
    Status(Box<Status>),
    Plan(Plan),
    Started {
        operation: OperationId,
    },
    Refused {
        why: String,
    },
    /// Only the coordinator can answer, and none is known here.
    NoCoordinator,
}

/// What would be done, and what stands in the way.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Plan {
    pub kind: Kind,
    pub workload: WorkloadId,
    pub from: Option<NodeId>,
    pub to: Option<NodeId>,
    pub preconditions: Vec<Precondition>,
    pub steps: Vec<String>,
    /// Milliseconds in which clients cannot write: usual, and the bound after which it is forced.
    pub expected_pause_ms: (u64, u64),
    /// Bytes of acknowledged writes that could be lost.
    pub data_at_risk: u64,
    pub candidates: Vec<candidates::Candidate>,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Precondition {
    pub text: String,
    /// None if met, else why not.
    pub unmet: Option<String>,
}

impl Plan {
    pub fn unmet(&self) -> Option<String> {
        let list: Vec<String> = self
            .preconditions
            .iter()
            .filter_map(|p| p.unmet.as_ref().map(|why| format!("{}: not met, {why}", p.text)))
            .collect();
        (!list.is_empty()).then(|| list.join("; "))
    }
}

/// Who waits for an answer.
#[derive(Clone, Debug)]
pub(super) enum Asker {
    Here(u64),
    Node(NodeId, u64),
}

impl Node {
    pub(super) fn answer(&mut self, asker: Asker, answer: Answer) {
        match asker {
            Asker::Here(ticket) => self.effects.push_back(Effect::Answer { ticket, answer }),
            Asker::Node(node, number) => self.send(node, Message::Answer { number, answer }),
        }
    }

    pub(super) fn on_asked(&mut self, asker: Asker, request: Request) {
        if self.is_coordinator() || request == Request::OwnStatus {
            return self.on_request(asker, request);
        }
        match (asker, self.coordinator().cloned()) {
            (Asker::Here(ticket), Some(coordinator)) => {
                let number = self.next_ask;
                self.next_ask += 1;
                self.asked.insert(number, ticket);
                while self.asked.len() > 1000 {
                    self.asked.pop_first();
                }
                self.send(coordinator, Message::Ask { number, request });
            }
            (asker, _) => self.answer(asker, Answer::NoCoordinator),
        }
    }

    fn on_request(&mut self, asker: Asker, request: Request) {
        let (kind, workload, to, by, plan_only) = match request {
            Request::Status | Request::OwnStatus => {
                let status = Box::new(self.status());
                return self.answer(asker, Answer::Status(status));
            }
            Request::Switchover { workload, to, by, plan_only } => (Kind::Switchover, workload, to, by, plan_only),
            Request::Failover { workload, to, by, plan_only } => {
                (Kind::ForcedFailover, workload, Some(to), by, plan_only)
            }
        };
        let plan = match self.plan(kind, &workload, to) {
            Ok(plan) => plan,
            Err(why) => return self.answer(asker, Answer::Refused { why }),
        };
        if plan_only {
            return self.answer(asker, Answer::Plan(plan));
        }
        if let Some(why) = plan.unmet() {
            return self.answer(asker, Answer::Refused { why });
        }
        let why = "asked for".to_string();
        let begin = Operation { kind, workload, from: plan.from, to: plan.to, by, why };
        match self.consensus.propose(vec![Command::Begin(begin)], self.now) {
            Some(index) => {
                self.answers_due.insert(index, asker);
            }
            None => self.answer(asker, Answer::NoCoordinator),
        }
    }

    fn plan(&self, kind: Kind, id: &WorkloadId, to: Option<NodeId>) -> Result<Plan, String> {
        let Some(spec) = self.spec.workloads.get(id) else {
            let known: Vec<&str> = self.spec.workloads.keys().map(|w| w.as_str()).collect();
            return Err(format!("there is no workload `{id}`; known: {}", known.join(", ")));
        };
        if let Some(to) = to.as_ref().filter(|to| !spec.replicas.contains_key(*to)) {
            let known: Vec<&str> = spec.replicas.keys().map(|n| n.as_str()).collect();
            return Err(format!("`{to}` has no replica of {id}; replicas: {}", known.join(", ")));
        }
        let scene = self.scene();
        let w = self.state.workload(id);
        let list = candidates::list(&scene, id, spec);
        let from = w.holder().cloned();
        if let Some(to) = to.as_ref().filter(|_| to == from) {
            return Err(format!("{to} is the primary of {id} already"));
        }
        let open = matches!(w.tenure, Tenure::Open { .. });
        let best = list.iter().filter(|c| c.excluded.is_none()).min_by_key(|c| (c.rank, c.node.clone()));
        let target = to.or_else(|| best.map(|c| c.node.clone()));
        let judged = target.as_ref().and_then(|t| list.iter().find(|c| c.node == *t));
        let idle = w.operation.map(|o| format!("{o} is running"));
        let old = from.as_ref().and_then(|f| scene.replica(f, id));
        let old_answers = old.is_some_and(|r| r.seen.as_ref().is_some_and(|o| o.is(Role::Primary)));
        let mut preconditions = vec![
            Precondition { text: "no other operation of this workload runs".into(), unmet: idle },
            Precondition {
                text: "the workload has an open primary".into(),
                unmet: (!open).then(|| "nobody is open as primary".into()),
            },
            Precondition {
                text: target.as_ref().map_or("a standby may take over".into(), |t| format!("{t} may take over")),
                unmet: match judged {
                    Some(c) => c.excluded.clone(),
                    None => Some("no replica is eligible".into()),
                },
            },
        ];
        if kind == Kind::Switchover {
            preconditions.push(Precondition {
                text: "the primary answers".into(),
                unmet: (!old_answers).then(|| "it does not; a forced failover would not wait for it".into()),
            });
        }
        let name = |n: &Option<NodeId>| n.as_ref().map_or("?".to_string(), ToString::to_string);
        let (old_name, new_name) = (name(&from), name(&target));
        let mut steps = Vec::new();
        if kind == Kind::Switchover {
            steps.push(format!("checkpoint on {old_name}, clients still writing"));
        }
        steps.push(format!("revoke {old_name}'s authority; gates hold new connections and close the old ones"));
        steps.push(match kind {
            Kind::Switchover => format!("stop {old_name} cleanly; its standbys receive everything"),
            _ => format!("stop {old_name} at once, or wait out its lease"),
        });
        steps.push(format!("promote {new_name} under a new epoch"));
        steps.push("gates release clients to it".into());
        steps.push(match kind {
            Kind::Switchover => format!("{old_name} follows as a standby"),
            _ => format!("{old_name} comes back by a fresh clone"),
        });
        let position = |r: Option<&ReplicaReport>| r.and_then(|r| r.seen.as_ref()).map(|o: &Observation| o.position.0);
        let risk = match (kind, spec.loss) {
            (Kind::Switchover, _) | (_, Loss::None) => 0,
            _ => {
                let behind = target.as_ref().and_then(|t| position(scene.replica(t, id)));
                position(old).unwrap_or(0).saturating_sub(behind.unwrap_or(0))
            }
        };
        let bound = if kind == Kind::Switchover {
            self.spec.timings.stop_limit
        } else {
            self.spec.timings.lease_is_over_after()
        };
        Ok(Plan {
            kind,
            workload: id.clone(),
            from,
            to: target,
            preconditions,
            steps,
            expected_pause_ms: (250, (bound + crate::outage::PROMOTE_ALLOWANCE).as_millis() as u64),
            data_at_risk: risk,
            candidates: list,
        })
    }
}
