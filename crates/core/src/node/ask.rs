//! Requests of people: who answers them, and what the coordinator makes of them.

use super::ask_power::cut_off;
use super::lead::Lead;
use super::questions::Asker;
use super::{Effect, Node};
use crate::author::{Author, Level, Token};
use crate::command::{ClusterAct, Command, NodeAct, WorkloadAct};
use crate::ids::{NodeId, OperationId, WorkloadId};
use crate::intent::{Intended, Invitation};
use crate::message::Message;
use crate::operation::{Cause, Kind, ModeSet, Operation, Outcome};
use crate::planted::Planted;
use crate::request::{Answer, IntentPlan, Plan, Request};
use crate::spec::WorkloadSpec;
use crate::steward::{Scene, fencing};
use rand::Rng;
use std::collections::BTreeSet;
use std::time::Duration;

/// How often it is looked whether an acknowledged finding is still there.
const FINDINGS_EVERY: Duration = Duration::from_secs(20);
/// One that was not there for so long is over; a node that is away may bring it back before.
const GONE_FOR_GOOD: Duration = Duration::from_secs(300);

/// What comes of a request that is not refused.
enum Reply {
    Now(Answer),
    /// The answer comes once these are committed.
    Once(Vec<Command>),
}

impl Node {
    pub(super) fn answer(&mut self, asker: Asker, answer: Answer) {
        match asker {
            Asker::Here(ticket) => self.outbox.emit_now(Effect::Answer { ticket, answer }),
            Asker::Node(node, number) => self.send(node, Message::Answer { number, answer }),
        }
    }

    /// A person whose token this node knows, by way of another node.
    pub(super) fn on_introduced(
        &mut self,
        from: NodeId,
        number: u64,
        request: Request,
        level: Level,
    ) {
        let stranger = !self.spec.nodes.contains_key(&from) || from == self.me;
        if !stranger && self.admits_question(&from, number, &request) {
            self.is_spoken_to(&from);
            self.on_asked(Asker::Node(from, number), request, (level, None));
        }
    }

    /// A person at that host may ask for so much without a token. The spec alone gives a host a level,
    /// and a fenced host has none.
    pub(super) fn level_of_host(&self, node: &NodeId) -> Level {
        if self.planted == Some(Planted::BelievesLevels) {
            return Level::Administer;
        }
        let given = self.spec.nodes.get(node).map(|spec| spec.local);
        let fenced = self.state.fenced(node).is_some();
        given.filter(|_| !fenced).unwrap_or_default()
    }

    pub(super) fn on_asked(
        &mut self,
        asker: Asker,
        request: Request,
        (level, token): (Level, Option<Token>),
    ) {
        if level < request.needs() {
            let why = self.too_low(&asker, level, request.needs());
            return self.answer(asker, Answer::Refused { why });
        }
        if request == Request::OwnStatus {
            return self.answer(asker, Answer::Status(Box::new(self.status())));
        }
        if let Some(lead) = &self.lead {
            if let Request::HandOver { to, .. } = request {
                let to = self.successor(lead, to);
                return self.hand_over(asker, to);
            }
            let reply = self.consider(lead, &asker, request);
            return self.reply(asker, reply);
        }
        match (asker, self.coordinator().cloned()) {
            (Asker::Here(ticket), Some(coordinator)) if coordinator != self.me => {
                let number = self.questions.pass_on(coordinator.clone(), ticket);
                self.send(
                    coordinator,
                    Message::Ask {
                        number,
                        request,
                        token,
                    },
                );
            }
            (asker, _) => self.answer(asker, Answer::NoCoordinator),
        }
    }

    fn too_low(&self, asker: &Asker, level: Level, needed: Level) -> String {
        let (me, needed) = (&self.me, needed.word());
        match asker {
            Asker::Here(_) => format!("this needs a token that may {needed}"),
            Asker::Node(from, _) => format!(
                "{me} coordinates, and this needs a token that {me} knows and that may {needed}: what was shown at {from} may only {} here. \
                 Show a token (--token-file), ask on the host {me}, or give the host {from} that level in the spec (node.{from}.local)",
                level.word()
            ),
        }
    }

    /// Answers, or proposes and answers when the last of it is committed.
    fn reply(&mut self, asker: Asker, reply: Result<Reply, String>) {
        let commands = match reply {
            Ok(Reply::Now(answer)) => return self.answer(asker, answer),
            Err(why) => return self.answer(asker, Answer::Refused { why }),
            Ok(Reply::Once(commands)) => commands,
        };
        let proposed = self.consensus.propose(commands, self.now);
        match (proposed, &mut self.lead) {
            (Some(indexes), Some(lead)) => drop(lead.undecided.insert(*indexes.end(), asker)),
            _ => self.answer(asker, Answer::NoCoordinator),
        }
    }

    /// No entry says it: it is done when another one leads.
    fn hand_over(&mut self, asker: Asker, to: Result<NodeId, String>) {
        let chance = self.chance.random();
        let answer = match to {
            Ok(to) if self.consensus.hand_over(&to, self.now, chance) => Answer::Done {
                index: self.state.applied,
                text: format!("{} hands over to {to}", self.me),
            },
            Ok(_) => Answer::NoCoordinator,
            Err(why) => Answer::Refused { why },
        };
        self.answer(asker, answer);
    }

    /// What a coordinator makes of a request.
    ///
    /// # Errors
    /// Why it is refused.
    fn consider(&self, lead: &Lead, asker: &Asker, request: Request) -> Result<Reply, String> {
        let (kind, workload, to, by, accept_loss, plan_only) = match request {
            Request::Status | Request::OwnStatus => {
                return Ok(Reply::Now(Answer::Status(Box::new(self.status()))));
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
                let plan = self.power_plan(lead, &node, what)?;
                if plan_only {
                    return Ok(Reply::Now(Answer::NodePlan(plan)));
                }
                if let Some(why) = plan.unmet {
                    return Err(why);
                }
                let command = self.power(&self.scene_of(lead), node, what, asker.author(by));
                return Ok(Reply::Once(vec![command]));
            }
            Request::Intend {
                plea,
                by,
                at,
                why,
                seen,
                plan_only,
            } => {
                let (intended, judged) = self.intended(lead, plea, (asker.author(by), at, why))?;
                let plan = self.intent_plan(lead, &intended, &judged);
                if plan_only {
                    return Ok(Reply::Now(Answer::IntentPlan(plan)));
                }
                return intend(intended, plan, seen);
            }
            Request::Join {
                invitation,
                node,
                digest,
                key,
                at,
                proof: _,
            } => {
                if let Some(text) = self.may_join(invitation, (&node, &digest, &key), at)? {
                    let index = self.state.applied;
                    return Ok(Reply::Now(Answer::Done { index, text }));
                }
                let join = Command::Cluster(ClusterAct::Join { invitation, key });
                return Ok(Reply::Once(vec![join]));
            }
            other => return Ok(Reply::Once(vec![self.single(lead, other, asker)?])),
        };
        let plan = self.plan(self.scene_of(lead), kind, &workload, to, accept_loss)?;
        if plan_only {
            return Ok(Reply::Now(Answer::Plan(plan)));
        }
        self.begin(plan, asker.author(by), accept_loss)
    }

    /// The operation that carries a plan out.
    ///
    /// # Errors
    /// What stands in its way.
    fn begin(&self, plan: Plan, by: Author, accept_loss: u64) -> Result<Reply, String> {
        if let Some(why) = plan.unmet() {
            return Err(why);
        }
        let workload = plan.workload;
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
        let begin = Operation {
            kind: plan.kind,
            workload,
            from: plan.from,
            to: plan.to,
            by,
            cause: Cause::AskedFor,
            why: "asked for".into(),
            asks: false,
            accept_loss,
            intent: None,
        };
        Ok(Reply::Once(
            stuck.into_iter().chain([Command::begin(begin)]).collect(),
        ))
    }

    /// What one entry does by itself.
    fn single(&self, lead: &Lead, request: Request, asker: &Asker) -> Result<Command, String> {
        let author = |by: String| asker.author(by);
        let scene = self.scene_of(lead);
        match request {
            Request::Mode {
                workload,
                mode,
                by,
                at,
                why,
                until,
            } => {
                self.known_workload(&workload)?;
                let set = ModeSet {
                    mode,
                    by: author(by),
                    at,
                    why,
                    until,
                };
                Ok(Command::Workload(workload, WorkloadAct::Mode(set)))
            }
            Request::Approve { operation, by } => self.approve(operation, author(by)),
            Request::Fence { node, by } => self.fence(&scene, node, author(by)),
            Request::Readmit { node, by } => self.readmit(&scene, node, author(by)),
            Request::Acknowledge {
                finding,
                note,
                by,
                at,
            } => self.acknowledge(lead, finding, note, (author(by), at)),
            Request::EndIntent { intent, by } => self.end_intent(intent, author(by)),
            Request::Invite {
                node,
                digest,
                until,
                by,
            } => {
                self.may_be_invited(&scene, &node)?;
                let by = author(by);
                let used = None;
                Ok(Command::Cluster(ClusterAct::Invite(Invitation {
                    node,
                    digest,
                    until,
                    by,
                    used,
                })))
            }
            _ => Err("that is not a single entry".into()),
        }
    }

    fn approve(&self, operation: OperationId, by: Author) -> Result<Command, String> {
        let logged = self.state.operations.get(operation);
        match logged {
            None => Err(format!("there is no operation {operation}")),
            Some(o) if o.outcome.is_some() => Err(format!("{operation} is over")),
            Some(o) if !o.waits() => Err(format!("{operation} does not wait for approval")),
            Some(o) => Ok(Command::Workload(
                o.what.workload.clone(),
                WorkloadAct::Approve { operation, by },
            )),
        }
    }

    fn fence(&self, scene: &Scene, node: NodeId, by: Author) -> Result<Command, String> {
        self.known_node(&node)?;
        if let Some(fenced) = self.state.fenced(&node) {
            return Err(format!(
                "{node} is fenced already, by {}: {}",
                fenced.by, fenced.why
            ));
        }
        if let Some(why) = self.obstacle_to_cut(scene, &node) {
            return Err(why);
        }
        let after = scene.after(&node);
        Ok(cut_off(scene, node, by, after))
    }

    fn readmit(&self, scene: &Scene, node: NodeId, by: Author) -> Result<Command, String> {
        self.known_node(&node)?;
        let Some(fenced) = self.state.fenced(&node) else {
            return Err(format!("{node} is not fenced"));
        };
        if let Some(why) = fencing::obstacle_to_return(scene, &node) {
            return Err(format!("{node} cannot be readmitted yet: {why}"));
        }
        Ok(Command::Node(
            node,
            NodeAct::Readmit {
                fence: fenced.id,
                why: "asked for".into(),
                by,
            },
        ))
    }

    /// Only of what stands is anything known.
    fn acknowledge(
        &self,
        lead: &Lead,
        finding: String,
        note: Option<String>,
        (by, at): (Author, u64),
    ) -> Result<Command, String> {
        let Some(note) = note else {
            if self.state.acknowledged.get(&finding).is_none() {
                return Err(format!("nobody has acknowledged `{finding}`"));
            }
            return Ok(Command::Cluster(ClusterAct::Forget { finding, by }));
        };
        let standing = self.account(lead).findings();
        if !self.state.acknowledged.takes(&finding) {
            return Err("too many findings are acknowledged: take some back first".into());
        }
        if standing.iter().any(|view| view.name == finding) {
            return Ok(Command::Cluster(ClusterAct::Acknowledge {
                finding,
                by,
                at,
                note,
            }));
        }
        let names: Vec<&str> = standing.iter().map(|view| view.name.as_str()).collect();
        Err(format!(
            "there is no finding `{finding}`; there are: {}",
            names.join(", ")
        ))
    }

    /// Whether a finding that somebody knows of has been gone for a while: if it comes again, it is
    /// news.
    pub(super) fn end_acknowledgements(&mut self) {
        let Some(lead) = &self.lead else { return };
        if self.state.acknowledged.findings().next().is_none()
            || self.now < lead.findings_due
            || !self.consensus.is_established()
        {
            return;
        }
        let standing: BTreeSet<String> = self
            .account(lead)
            .findings()
            .into_iter()
            .map(|view| view.name)
            .collect();
        let gone = self.state.acknowledged.findings();
        let gone: Vec<String> = gone.filter(|f| !standing.contains(*f)).cloned().collect();
        let (now, Some(lead)) = (self.now, &mut self.lead) else {
            return;
        };
        lead.findings_due = now + FINDINGS_EVERY;
        lead.gone.retain(|finding, _| gone.contains(finding));
        let mut over = Vec::new();
        for finding in gone {
            let since = *lead.gone.entry(finding.clone()).or_insert(now);
            if now.since(since) >= GONE_FOR_GOOD {
                let by = Author::Cluster;
                over.push(Command::Cluster(ClusterAct::Forget { finding, by }));
            }
        }
        if !over.is_empty() {
            self.consensus.propose(over, self.now);
        }
    }

    pub(super) fn known_workload(&self, id: &WorkloadId) -> Result<&WorkloadSpec, String> {
        if let Some(workload) = self.spec.workloads.get(id) {
            return Ok(workload);
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

/// The entry that says what is wanted.
///
/// # Errors
/// What stands in its way, or that its plan is not the one that was approved.
fn intend(intended: Intended, plan: IntentPlan, seen: Option<String>) -> Result<Reply, String> {
    if !plan.unmet.is_empty() {
        return Err(plan.unmet.join("; "));
    }
    if seen.is_some_and(|seen| seen != plan.seen) {
        let now: Vec<String> = plan.steps.into_iter().map(|step| step.text).collect();
        return Err(format!(
            "the plan is another one than the one that was approved: {}; {}",
            now.join("; "),
            plan.consequences.join("; ")
        ));
    }
    let intend = Command::Cluster(ClusterAct::Intend(intended.what));
    Ok(Reply::Once(vec![intend]))
}
