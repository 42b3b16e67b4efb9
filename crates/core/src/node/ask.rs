//! Requests of people: what the coordinator answers, and plans before anything is changed.

use super::{Effect, Node};
use crate::author::{Author, Level};
use crate::command::{Command, NodeAct, WorkloadAct};
use crate::ids::{Index, NodeId, OperationId, WorkloadId};
use crate::message::Message;
use crate::operation::{Kind, Mode, Operation, Outcome};
use crate::replica::{Observation, ReplicaReport, Role};
use crate::spec::Loss;
use crate::state::Tenure;
use crate::steward::candidates::{self, MayLack};
use crate::steward::fencing;
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
        /// Acknowledged bytes that may be lost; `u64::MAX` where any number may.
        accept_loss: u64,
        plan_only: bool,
    },
    Mode {
        workload: WorkloadId,
        mode: Mode,
        by: String,
    },
    /// Lets an operation go on that waits for it.
    Approve {
        operation: OperationId,
        by: String,
    },
    /// Cuts a node off from all authority, and its power where there is a device.
    Fence {
        node: NodeId,
        by: String,
    },
    Readmit {
        node: NodeId,
        by: String,
    },
    /// Turns a host on or off, or both; off is a fence, so that it holds nothing when it goes.
    Power {
        node: NodeId,
        what: PowerWish,
        by: String,
        plan_only: bool,
    },
    /// Takes a node's new store in: from then on it votes, and what it acknowledges counts (A6).
    Enrol {
        node: NodeId,
        by: String,
    },
}

impl Request {
    /// What whoever asks has to be allowed. Checked where it is asked and again where it is decided: a request may have come a long
    /// way.
    pub fn needs(&self) -> Level {
        match self {
            Request::Status | Request::OwnStatus => Level::Observe,
            Request::Switchover { plan_only: true, .. }
            | Request::Failover { plan_only: true, .. }
            | Request::Power { plan_only: true, .. } => Level::Observe,
            Request::Failover { accept_loss: 1.., .. }
            | Request::Fence { .. }
            | Request::Enrol { .. }
            | Request::Power { .. } => Level::Administer,
            Request::Switchover { .. }
            | Request::Failover { .. }
            | Request::Mode { .. }
            | Request::Approve { .. }
            | Request::Readmit { .. } => Level::Operate,
        }
    }

    /// Who asks, by the word of the node that was asked.
    pub fn by(&self) -> Option<&str> {
        match self {
            Request::Status | Request::OwnStatus => None,
            Request::Switchover { by, .. }
            | Request::Failover { by, .. }
            | Request::Mode { by, .. }
            | Request::Approve { by, .. }
            | Request::Fence { by, .. }
            | Request::Readmit { by, .. }
            | Request::Enrol { by, .. }
            | Request::Power { by, .. } => Some(by),
        }
    }
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub enum Answer {
    Status(Box<Status>),
    Plan(Plan),
    NodePlan(NodePlan),
    Started {
        operation: OperationId,
    },
    /// Committed, with what it says.
    Done {
        index: Index,
        text: String,
    },
    Refused {
        why: String,
    },
    /// Only the coordinator can answer, and none is known here.
    NoCoordinator,
}

/// What is to become of a host's power.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum PowerWish {
    On,
    Off,
    /// Off, and on again once others hold what it held.
    Cycle,
}

impl PowerWish {
    pub const ALL: [PowerWish; 3] = [PowerWish::On, PowerWish::Off, PowerWish::Cycle];

    pub fn word(self) -> &'static str {
        match self {
            PowerWish::On => "on",
            PowerWish::Off => "off",
            PowerWish::Cycle => "cycle",
        }
    }
}

/// What would be done to a host, and why it cannot be, if so.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct NodePlan {
    pub node: NodeId,
    pub steps: Vec<String>,
    pub unmet: Option<String>,
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
    /// Bytes of acknowledged writes that could be lost; `u64::MAX` where that is not known.
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

impl Asker {
    fn author(&self, name: String) -> Author {
        let through = match self {
            Asker::Here(_) => None,
            Asker::Node(node, _) => Some(node.clone()),
        };
        Author::Person { name, through }
    }
}

impl Node {
    pub(super) fn answer(&mut self, asker: Asker, answer: Answer) {
        match asker {
            Asker::Here(ticket) => self.effects.push_back(Effect::Answer { ticket, answer }),
            Asker::Node(node, number) => self.send(node, Message::Answer { number, answer }),
        }
    }

    pub(super) fn on_asked(&mut self, asker: Asker, request: Request, level: Level) {
        if level < request.needs() {
            let why = format!("this needs a token that may {}", request.needs().word());
            return self.answer(asker, Answer::Refused { why });
        }
        if self.is_coordinator() || request == Request::OwnStatus {
            return self.on_request(asker, request);
        }
        match (asker, self.coordinator().cloned()) {
            (Asker::Here(ticket), Some(coordinator)) => {
                let number = self.next_ask;
                self.next_ask += 1;
                self.asked.insert(number, (coordinator.clone(), ticket));
                while self.asked.len() > 1000 {
                    self.asked.pop_first();
                }
                self.send(coordinator, Message::Ask { number, request, level });
            }
            (asker, _) => self.answer(asker, Answer::NoCoordinator),
        }
    }

    fn on_request(&mut self, asker: Asker, request: Request) {
        let (kind, workload, to, by, accept_loss, plan_only) = match request {
            Request::Status | Request::OwnStatus => {
                let status = Box::new(self.status());
                return self.answer(asker, Answer::Status(status));
            }
            Request::Switchover { workload, to, by, plan_only } => (Kind::Switchover, workload, to, by, 0, plan_only),
            Request::Failover { workload, to, by, accept_loss, plan_only } => {
                (Kind::ForcedFailover, workload, Some(to), by, accept_loss, plan_only)
            }
            Request::Power { node, what, plan_only, by } => {
                return match self.power_plan(&node, what) {
                    Err(why) => self.answer(asker, Answer::Refused { why }),
                    Ok(plan) if plan_only => self.answer(asker, Answer::NodePlan(plan)),
                    Ok(NodePlan { unmet: Some(why), .. }) => self.answer(asker, Answer::Refused { why }),
                    Ok(_) => {
                        let by = asker.author(by);
                        let command = self.power(node, what, by);
                        self.propose_for(asker, vec![command]);
                    }
                };
            }
            other => {
                return match self.single(other, &asker) {
                    Ok(command) => self.propose_for(asker, vec![command]),
                    Err(why) => self.answer(asker, Answer::Refused { why }),
                };
            }
        };
        let plan = match self.plan(kind, &workload, to, accept_loss) {
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
        // A failover that finds nobody who may take over is replaced by the one that a person answers for.
        let stuck = self.state.running(&workload).map(|(operation, _)| {
            let outcome = Outcome::Undone(format!("replaced by a forced failover asked for by {by}"));
            Command::Workload(workload.clone(), WorkloadAct::Finish { operation, outcome, phases: Vec::new() })
        });
        let (from, to) = (plan.from, plan.to);
        let begin = Operation { kind, workload, from, to, by: asker.author(by), why, asks: false, accept_loss };
        self.propose_for(asker, stuck.into_iter().chain([Command::begin(begin)]).collect());
    }

    /// Proposes, and answers when the last of them is committed.
    fn propose_for(&mut self, asker: Asker, commands: Vec<Command>) {
        match self.consensus.propose(commands, self.now) {
            Some(indexes) => drop(self.answers_due.insert(*indexes.end(), asker)),
            None => self.answer(asker, Answer::NoCoordinator),
        }
    }

    /// What one entry does by itself.
    fn single(&self, request: Request, asker: &Asker) -> Result<Command, String> {
        let author = |by: String| asker.author(by);
        match request {
            Request::Mode { workload, mode, by } => {
                let by = author(by);
                self.known_workload(&workload)?;
                Ok(Command::Workload(workload, WorkloadAct::Mode { mode, by }))
            }
            Request::Approve { operation, by } => {
                let logged = self.state.operations.get(operation);
                match logged {
                    None => Err(format!("there is no operation {operation}")),
                    Some(o) if o.outcome.is_some() => Err(format!("{operation} is over")),
                    Some(o) if !o.waits() => Err(format!("{operation} does not wait for approval")),
                    Some(o) => Ok(Command::Workload(
                        o.what.workload.clone(),
                        WorkloadAct::Approve { operation, by: author(by) },
                    )),
                }
            }
            Request::Fence { node, by } => {
                self.known_node(&node)?;
                if let Some(fenced) = self.state.fenced(&node) {
                    return Err(format!("{node} is fenced already, by {}: {}", fenced.by, fenced.why));
                }
                if node == self.me {
                    return Err(format!(
                        "{node} is the coordinator and cannot cut its own power; stop its daemon first"
                    ));
                }
                let boot = self.reports.get(&node).map(|h| h.report.boot.clone());
                let after = self.scene().after(&node);
                Ok(Command::Node(node, NodeAct::Fence { boot, why: "asked for".into(), by: author(by), after }))
            }
            Request::Readmit { node, by } => {
                self.known_node(&node)?;
                let Some(fenced) = self.state.fenced(&node) else { return Err(format!("{node} is not fenced")) };
                if let Some(why) = fencing::unfit(&self.scene(), &node) {
                    return Err(format!("{node} cannot be readmitted yet: {why}"));
                }
                Ok(Command::Node(node, NodeAct::Readmit { fence: fenced.id, why: "asked for".into(), by: author(by) }))
            }
            Request::Enrol { node, by } => self.enrol(node, author(by)),
            _ => Err("that is not a single entry".into()),
        }
    }

    /// The store that a node says it has now; those of the others commit it, as its own acknowledgements do not count yet.
    fn enrol(&self, node: NodeId, by: Author) -> Result<Command, String> {
        self.known_node(&node)?;
        let Some(heard) = self.reports.get(&node).filter(|_| self.scene().is_up(&node)) else {
            return Err(format!("{node} is not heard: start its daemon first"));
        };
        match (&heard.report.store, heard.report.counts) {
            (_, true) => Err(format!("{node}'s node store counts already")),
            (None, _) => Err(format!("{node} has not said which node store it has")),
            (Some(store), false) => Ok(Command::Node(node, NodeAct::Enrol { store: store.clone(), by })),
        }
    }

    fn known_workload(&self, id: &WorkloadId) -> Result<(), String> {
        if self.spec.workloads.contains_key(id) {
            return Ok(());
        }
        let known: Vec<&str> = self.spec.workloads.keys().map(|w| w.as_str()).collect();
        Err(format!("there is no workload `{id}`; known: {}", known.join(", ")))
    }

    pub(super) fn known_node(&self, id: &NodeId) -> Result<(), String> {
        if self.spec.nodes.contains_key(id) {
            return Ok(());
        }
        let known: Vec<&str> = self.spec.nodes.keys().map(|n| n.as_str()).collect();
        Err(format!("there is no node `{id}`; known: {}", known.join(", ")))
    }

    fn plan(&self, kind: Kind, id: &WorkloadId, to: Option<NodeId>, accept_loss: u64) -> Result<Plan, String> {
        self.known_workload(id)?;
        let spec = &self.spec.workloads[id];
        if let Some(to) = to.as_ref().filter(|to| !spec.replicas.contains_key(*to)) {
            let known: Vec<&str> = spec.replicas.keys().map(|n| n.as_str()).collect();
            return Err(format!("`{to}` has no replica of {id}; replicas: {}", known.join(", ")));
        }
        let scene = self.scene();
        let w = self.state.workload(id);
        let list = candidates::list(&scene, id, spec);
        let from = match &w.tenure {
            Tenure::Ended { last, .. } => Some(last.clone()),
            _ => w.holder().cloned(),
        };
        let open = matches!(w.tenure, Tenure::Open { .. });
        if let Some(to) = to.as_ref().filter(|to| open && from.as_ref() == Some(*to)) {
            return Err(format!("{to} is the primary of {id} already"));
        }
        let takes_over = |c: &&candidates::Candidate| c.excluded.is_none() && c.way == candidates::Way::TakesOver;
        let best = list.iter().filter(takes_over).min_by_key(|c| (c.rank, c.node.clone()));
        let target = to.or_else(|| best.map(|c| c.node.clone()));
        let judged = target.as_ref().and_then(|t| list.iter().find(|c| c.node == *t));
        // Forced: also where nobody is primary (yet), in place of a failover that found nobody, or somebody who does not open.
        let forced = kind == Kind::ForcedFailover;
        let nobody = !open;
        let replaceable = forced && (nobody || self.state.running(id).is_some_and(|(_, o)| o.waits()));
        let idle = w.operation.filter(|_| !replaceable).map(|o| format!("{o} is running"));
        let lack = judged.and_then(|c| c.may_lack);
        let old = from.as_ref().and_then(|f| scene.replica(f, id));
        let old_answers = old.is_some_and(|r| r.seen.as_ref().is_some_and(|o| o.is(Role::Primary)));
        let mut preconditions = vec![
            Precondition { text: "no other operation of this workload runs".into(), unmet: idle },
            Precondition {
                text: if forced { "no other move is half done" } else { "the workload has an open primary" }.into(),
                unmet: (nobody && !forced).then(|| "nobody is open as primary".into()),
            },
            Precondition {
                text: target.as_ref().map_or("a standby may take over".into(), |t| format!("{t} may take over")),
                unmet: match judged {
                    Some(c) if forced && c.may_with_loss(accept_loss) => None,
                    // A workload that was never opened has no acknowledged writes: a person says whose data are right.
                    Some(_) if forced && w.opened.is_none() => None,
                    Some(c) => c.excluded.clone().map(|why| match c.may_lack.filter(|_| forced) {
                        Some(lack) => format!("{why}; {}", how_to_accept(lack)),
                        None => why,
                    }),
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
            _ => format!("{old_name} comes back by a rewind, or a clone"),
        });
        // What is not known is not zero (F2).
        let position =
            |r: Option<&ReplicaReport>| r.and_then(|r| r.seen.as_ref()).and_then(|o: &Observation| o.position);
        let risk = match (kind, spec.loss) {
            (Kind::ForcedFailover, _) if lack.is_some() => lack.map_or(0, MayLack::bytes),
            (Kind::Switchover, _) | (_, Loss::None) => 0,
            _ => {
                let behind = target.as_ref().and_then(|t| position(scene.replica(t, id)));
                let lag = position(old).zip(behind).map(|(old, new)| old.0.saturating_sub(new.0));
                lag.unwrap_or(u64::MAX)
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

/// What a person has to accept for it, in words.
fn how_to_accept(lack: MayLack) -> String {
    match lack {
        MayLack::Bytes(0) => {
            "it has everything that was acknowledged; choose it all the same with --accept-loss 0B".into()
        }
        MayLack::Bytes(bytes) => {
            format!("it lacks up to {bytes} bytes of acknowledged writes; accept that with --accept-loss {bytes}B")
        }
        MayLack::AtLeast { bytes, age } => format!(
            "it lacks {bytes} bytes of what the primary had when it was last heard, {} ms ago, and whatever was written \
             since; accept that with --accept-loss {}B",
            age.as_millis(),
            bytes.max(1)
        ),
        MayLack::Unknown => {
            "how much of the acknowledged writes it lacks is not known; accept any loss with --accept-loss all".into()
        }
    }
}
