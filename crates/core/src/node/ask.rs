//! Requests of people: who answers them, and what the coordinator makes of them.

use super::questions::Asker;
use super::{Effect, Node};
use crate::author::{Author, Level};
use crate::command::{Command, NodeAct, WorkloadAct};
use crate::ids::{NodeId, WorkloadId};
use crate::message::Message;
use crate::operation::{Kind, Operation, Outcome};
use crate::request::{Answer, NodePlan, PowerWish, Request};
use crate::steward::fencing;

/// A move that somebody asks for.
struct Wanted {
    kind: Kind,
    workload: WorkloadId,
    to: Option<NodeId>,
    by: Author,
    accept_loss: u64,
}

impl Node {
    pub(super) fn answer(&mut self, asker: Asker, answer: Answer) {
        match asker {
            Asker::Here(ticket) => self.outbox.emit_now(Effect::Answer { ticket, answer }),
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
                let number = self.questions.pass_on(coordinator.clone(), ticket);
                self.send(
                    coordinator,
                    Message::Ask {
                        number,
                        request,
                        level,
                    },
                );
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
            Request::Switchover {
                workload,
                to,
                by,
                plan_only,
            } => (Kind::Switchover, workload, to, by, 0, plan_only),
            Request::Failover {
                workload,
                to,
                by,
                accept_loss,
                plan_only,
            } => (
                Kind::ForcedFailover,
                workload,
                Some(to),
                by,
                accept_loss,
                plan_only,
            ),
            Request::Power {
                node,
                what,
                plan_only,
                by,
            } => {
                return self.on_power_wish(asker, node, what, plan_only, by);
            }
            other => {
                return match self.single(other, &asker) {
                    Ok(command) => self.propose_for(asker, vec![command]),
                    Err(why) => self.answer(asker, Answer::Refused { why }),
                };
            }
        };
        let by = asker.author(by);
        let wanted = Wanted {
            kind,
            workload,
            to,
            by,
            accept_loss,
        };
        self.on_move(asker, wanted, plan_only);
    }

    fn on_power_wish(
        &mut self,
        asker: Asker,
        node: NodeId,
        what: PowerWish,
        plan_only: bool,
        by: String,
    ) {
        match self.power_plan(&node, what) {
            Err(why) => self.answer(asker, Answer::Refused { why }),
            Ok(plan) if plan_only => self.answer(asker, Answer::NodePlan(plan)),
            Ok(NodePlan {
                unmet: Some(why), ..
            }) => self.answer(asker, Answer::Refused { why }),
            Ok(_) => {
                let by = asker.author(by);
                let command = self.power(node, what, by);
                self.propose_for(asker, vec![command]);
            }
        }
    }

    fn on_move(&mut self, asker: Asker, wanted: Wanted, plan_only: bool) {
        let Wanted {
            kind,
            workload,
            to,
            by,
            accept_loss,
        } = wanted;
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
        // A failover that finds nobody who may take over is replaced by the one that a person
        // answers for.
        let stuck = self.state.running(&workload).map(|(operation, _)| {
            let outcome =
                Outcome::Undone(format!("replaced by a forced failover asked for by {by}"));
            Command::Workload(
                workload.clone(),
                WorkloadAct::Finish {
                    operation,
                    outcome,
                    phases: Vec::new(),
                },
            )
        });
        let (from, to) = (plan.from, plan.to);
        let begin = Operation {
            kind,
            workload,
            from,
            to,
            by,
            why,
            asks: false,
            accept_loss,
        };
        self.propose_for(
            asker,
            stuck.into_iter().chain([Command::begin(begin)]).collect(),
        );
    }

    /// Proposes, and answers when the last of them is committed.
    fn propose_for(&mut self, asker: Asker, commands: Vec<Command>) {
        match self.consensus.propose(commands, self.now) {
            Some(indexes) => self.questions.wait_for(*indexes.end(), asker),
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
                        WorkloadAct::Approve {
                            operation,
                            by: author(by),
                        },
                    )),
                }
            }
            Request::Fence { node, by } => {
                self.known_node(&node)?;
                if let Some(fenced) = self.state.fenced(&node) {
                    return Err(format!(
                        "{node} is fenced already, by {}: {}",
                        fenced.by, fenced.why
                    ));
                }
                if node == self.me {
                    return Err(format!(
                        "{node} is the coordinator and cannot cut its own power; stop its daemon first"
                    ));
                }
                let boot = self.reports.get(&node).map(|h| h.report.boot.clone());
                let after = self.scene().after(&node);
                Ok(Command::Node(
                    node,
                    NodeAct::Fence {
                        boot,
                        why: "asked for".into(),
                        by: author(by),
                        after,
                    },
                ))
            }
            Request::Readmit { node, by } => {
                self.known_node(&node)?;
                let Some(fenced) = self.state.fenced(&node) else {
                    return Err(format!("{node} is not fenced"));
                };
                if let Some(why) = fencing::unfit(&self.scene(), &node) {
                    return Err(format!("{node} cannot be readmitted yet: {why}"));
                }
                Ok(Command::Node(
                    node,
                    NodeAct::Readmit {
                        fence: fenced.id,
                        why: "asked for".into(),
                        by: author(by),
                    },
                ))
            }
            Request::Enrol { node, by } => self.enrol(node, author(by)),
            _ => Err("that is not a single entry".into()),
        }
    }

    /// The store that a node says it has now; those of the others commit it, as its own
    /// acknowledgements do not count yet.
    fn enrol(&self, node: NodeId, by: Author) -> Result<Command, String> {
        self.known_node(&node)?;
        let Some(heard) = self
            .reports
            .get(&node)
            .filter(|_| self.scene().is_up(&node))
        else {
            return Err(format!("{node} is not heard: start its daemon first"));
        };
        match (&heard.report.store, heard.report.counts) {
            (_, true) => Err(format!("{node}'s node store counts already")),
            (None, _) => Err(format!("{node} has not said which node store it has")),
            (Some(store), false) => Ok(Command::Node(
                node,
                NodeAct::Enrol {
                    store: store.clone(),
                    by,
                },
            )),
        }
    }

    pub(super) fn known_workload(&self, id: &WorkloadId) -> Result<(), String> {
        if self.spec.workloads.contains_key(id) {
            return Ok(());
        }
        let known: Vec<&str> = self.spec.workloads.keys().map(|w| w.as_str()).collect();
        Err(format!(
            "there is no workload `{id}`; known: {}",
            known.join(", ")
        ))
    }

    pub(super) fn known_node(&self, id: &NodeId) -> Result<(), String> {
        if self.spec.nodes.contains_key(id) {
            return Ok(());
        }
        let known: Vec<&str> = self.spec.nodes.keys().map(|n| n.as_str()).collect();
        Err(format!(
            "there is no node `{id}`; known: {}",
            known.join(", ")
        ))
    }
}
