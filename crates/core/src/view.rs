//! What a person is shown: one sentence, then the evidence. Made by the coordinator, or, where there is none, by the node
//! that was asked from what it knows itself.

use crate::authority::Claim;
use crate::health::{Hearing, LOSSY};
use crate::ids::{Epoch, Index, NodeId, OperationId, Term, WorkloadId};
use crate::node::{AddressReport, Node};
use crate::operation::Mode;
use crate::progress::Progress;
use crate::replica::{Doing, GateReport, ReplicaReport, Role};
use crate::spec::{Alone, Finding, Loss, Severity, WorkloadSpec, check};
use crate::state::{Standing, SyncSet, Tenure, WorkloadState};
use crate::steward::candidates::{self, Candidate};
use crate::time::Time;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fmt;
use std::net::SocketAddr;
use std::time::Duration;

/// How the whole or a workload is, in one fixed word each.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Condition {
    /// Normal: everything that the spec asks for is there.
    Healthy,
    /// Not finished yet: something is under way and coming along.
    Settling,
    /// It works, with less protection than the spec asks for.
    Weakened,
    /// Clients cannot write, or the cluster cannot decide.
    Down,
}

impl Condition {
    pub fn word(self) -> &'static str {
        match self {
            Condition::Healthy => "healthy",
            Condition::Settling => "settling",
            Condition::Weakened => "weakened",
            Condition::Down => "down",
        }
    }
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Status {
    pub cluster: String,
    /// The node whose view this is.
    pub seen_by: NodeId,
    pub coordinator: Option<NodeId>,
    pub term: Term,
    pub applied: Index,
    pub condition: Condition,
    pub sentence: String,
    pub quorum: Quorum,
    pub nodes: Vec<NodeView>,
    pub workloads: Vec<WorkloadView>,
    /// Newest first.
    pub operations: Vec<Progress>,
    pub findings: Vec<Finding>,
    /// The viewing node's steady clock.
    pub at: Time,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Quorum {
    pub total: u32,
    pub needed: u32,
    /// Votes of the nodes that are heard now, the own included; not those that are known not to count.
    pub heard: u32,
    /// Nodes whose single loss would cost the majority now; none where it is lost already.
    pub cannot_lose: Vec<NodeId>,
}

/// How a node is heard by the viewer.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum NodeState {
    Up,
    Suspected,
    /// Never heard yet.
    Unheard,
}

impl fmt::Display for NodeState {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Up => "up",
            Self::Suspected => "suspected",
            Self::Unheard => "unheard",
        })
    }
}

/// What a replica's server is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ReplicaState {
    Primary,
    Standby,
    /// It runs and does not say yet what it is.
    Starting,
    Stopped,
    /// Its data are being brought back to what the primary has.
    Rejoining,
    /// Its node is not heard, or has not looked yet.
    Unknown,
}

impl fmt::Display for ReplicaState {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Primary => "primary",
            Self::Standby => "standby",
            Self::Starting => "starting",
            Self::Stopped => "stopped",
            Self::Rejoining => "rejoining",
            Self::Unknown => "unknown",
        })
    }
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct NodeView {
    pub node: NodeId,
    pub zone: String,
    pub votes: u32,
    /// Whether they count: not where its node store is new, or was put back. None while that is not known.
    pub votes_count: Option<bool>,
    pub witness: bool,
    pub state: NodeState,
    pub silent_ms: u64,
    /// Nodes of which nothing arrives there, as it says itself. One way only, unless they say the same of it.
    pub does_not_hear: Vec<NodeId>,
    /// Of whose beats it misses some, in per cent; not what a few lost packets amount to.
    pub misses: BTreeMap<NodeId, u8>,
    /// Why it may hold nothing until it is readmitted, if so (S6).
    pub fenced: Option<String>,
    /// What its power device said last: `on`, `off`, or why that is not known; none without a device.
    pub power: Option<String>,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct WorkloadView {
    pub workload: WorkloadId,
    pub condition: Condition,
    pub sentence: String,
    /// What a person can safely do next, if anything.
    pub next: Option<String>,
    pub epoch: Epoch,
    pub mode: Mode,
    pub tenure: Tenure,
    pub primary: Option<NodeId>,
    pub sync: SyncSet,
    pub replicas: Vec<ReplicaView>,
    pub candidates: Vec<Candidate>,
    pub gates: Vec<GateView>,
    pub address: Option<AddressView>,
    pub operation: Option<OperationId>,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct ReplicaView {
    pub node: NodeId,
    pub state: ReplicaState,
    pub detail: String,
    pub address: SocketAddr,
    pub rank: u32,
    pub in_sync_set: bool,
    /// Bytes behind the primary's flushed position.
    pub lag: Option<u64>,
    pub standing: Standing,
    pub report: Option<ReplicaReport>,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct AddressView {
    /// `10.30.0.50/24`
    pub on: Vec<String>,
    /// The node that it was given to.
    pub holder: Option<NodeId>,
    /// That node has it and answers for it.
    pub held: bool,
    /// Clients' connections over it; whoever has it next tells these clients.
    pub flows: usize,
    /// What is against it: a conflict, a trouble.
    pub remark: Option<String>,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct GateView {
    pub node: NodeId,
    pub address: SocketAddr,
    /// The node it forwards to now; none while it holds or is not heard.
    pub forwards_to: Option<NodeId>,
    pub report: Option<GateReport>,
}

impl Node {
    /// What this node can say about the cluster now.
    pub fn status(&self) -> Status {
        let scene = self.scene();
        let nodes: Vec<NodeView> = self.spec().nodes.keys().map(|n| self.node_view(n)).collect();
        let quorum = self.quorum_view(&nodes);
        let workloads: Vec<WorkloadView> = self.spec().workloads.keys().map(|id| self.workload_view(id)).collect();
        let coordinator = self.coordinator().cloned();
        let (condition, sentence) = sentence(coordinator.as_ref(), &quorum, &nodes, &workloads, self.me());
        let operations = self.state().operations.iter().rev().take(30).map(|(id, o)| Progress {
            id,
            what: o.what.clone(),
            waits: o.waits() && o.outcome.is_none(),
            steps: self.steps_of(id),
            target: o.target.clone(),
            outcome: o.outcome.clone(),
            phases: o.phases.clone(),
        });
        Status {
            cluster: self.spec().cluster.clone(),
            seen_by: self.me().clone(),
            coordinator,
            term: self.term(),
            applied: self.state().applied,
            condition,
            sentence,
            quorum,
            nodes,
            operations: operations.collect(),
            workloads,
            findings: self.findings(),
            at: scene.now,
        }
    }

    fn findings(&self) -> Vec<Finding> {
        let seen = self.unguarded().into_iter().chain(self.unlisted()).chain(self.power_findings());
        let seen = seen.chain(self.uncounted()).chain(self.unnamed()).chain(self.overruled());
        check(self.spec()).into_iter().chain(seen).collect()
    }

    /// Whether its node store counts, as it says itself.
    fn votes_count(&self, node: &NodeId) -> Option<bool> {
        if node == self.me() { Some(self.counts()) } else { Some(self.scene().reports.get(node)?.report.counts) }
    }

    /// A voter whose node store is new, or went back in time: it does not vote (A6).
    fn uncounted(&self) -> Vec<Finding> {
        let voters = self.spec().nodes.iter().filter(|(id, n)| n.votes > 0 && self.votes_count(id) == Some(false));
        let finding = |(id, _): (&NodeId, _)| Finding {
            severity: Severity::Warning,
            path: vec!["node".into(), id.to_string()],
            what: format!(
                "{id} does not vote: its node store is new, or was put back to an earlier state, and may have forgotten what it \
                 promised"
            ),
            remedy: format!(
                "see that its state directory is the right one, mounted and not restored; then karst node enrol {id}"
            ),
        };
        voters.map(finding).collect()
    }

    /// Settings of servers that outrank Karst's own, or that a promise rests on (F11).
    fn overruled(&self) -> Vec<Finding> {
        let scene = self.scene();
        let mut findings = Vec::new();
        for (id, spec) in &self.spec().workloads {
            for node in spec.replicas.keys() {
                let seen = scene.replica(node, id).and_then(|r| r.seen.as_ref());
                for setting in seen.into_iter().flat_map(|o| &o.overruled) {
                    let what =
                        format!("{} = {} is in force on {node} ({})", setting.name, setting.value, setting.source);
                    let risk = match setting.ends_promise {
                        true => "commits may return that no standby has",
                        false => "writes that it acknowledges may be lost or damaged in a crash or a failover",
                    };
                    findings.push(Finding {
                        severity: Severity::Warning,
                        path: vec!["workload".into(), id.to_string(), "replica".into(), node.to_string()],
                        what: format!("{what}: {risk}"),
                        remedy:
                            "take that setting back (ALTER SYSTEM RESET, ALTER ROLE or DATABASE ... RESET) and reload"
                                .into(),
                    });
                }
            }
        }
        findings
    }

    /// A workload whose primary the spec does not name.
    fn unnamed(&self) -> Vec<Finding> {
        let holder = |id: &WorkloadId| self.state().workload(id).holder().cloned();
        let gone = self.spec().workloads.iter().filter_map(|(id, s)| Some((id, holder(id)?, s)));
        let gone = gone.filter(|(_, holder, s)| !s.replicas.contains_key(holder));
        let finding = |(id, holder, _): (&WorkloadId, NodeId, _)| Finding {
            severity: Severity::Warning,
            path: vec!["workload".into(), id.to_string(), "replica".into()],
            what: format!("{holder} is primary of {id}, and the spec names no replica there: no gate forwards to it"),
            remedy: format!("put [workload.{id}.replica.{holder}] back, and move the workload before it is taken out"),
        };
        gone.map(finding).collect()
    }

    /// A floating address whose holder does not know who is connected over it.
    fn unlisted(&self) -> Vec<Finding> {
        let scene = self.scene();
        let finding = |id: &WorkloadId| {
            let holder = self.state().workload(id).place.holder.as_ref()?;
            let why = scene.reports.get(holder)?.report.parts.addresses.get(id)?.unlisted.as_ref()?;
            Some(Finding {
                severity: Severity::Warning,
                path: vec!["workload".into(), id.to_string(), "address".into()],
                what: format!(
                    "{holder} cannot list the connections over its address ({why}): clients that wait for an answer when it \
                     moves are not told"
                ),
                remedy: "load the kernel modules tcp_diag and inet_diag there, or build them in".into(),
            })
        };
        self.spec().workloads.keys().filter_map(finding).collect()
    }

    /// A primary that no packet guard covers (C3).
    fn unguarded(&self) -> Vec<Finding> {
        let scene = self.scene();
        let finding = |id: &WorkloadId| {
            let holder = self.state().workload(id).holder()?;
            let why = scene.replica(holder, id)?.unguarded.as_ref()?;
            Some(Finding {
                severity: Severity::Warning,
                path: vec!["workload".into(), id.to_string()],
                what: format!(
                    "{holder} has no packet guard ({why}): frozen as a whole and thawed later, its server may answer for \
                     an instant before it is ended"
                ),
                remedy: "install nftables there and give karstd the right to use it (CAP_NET_ADMIN)".into(),
            })
        };
        self.spec().workloads.keys().filter_map(finding).collect()
    }

    fn node_view(&self, node: &NodeId) -> NodeView {
        let scene = self.scene();
        let spec = &self.spec().nodes[node];
        let silent = if node == self.me() { Duration::ZERO } else { scene.health.silence(node, scene.now) };
        let state = if node == self.me() || (self.is_coordinator() && scene.reports_in(node)) {
            NodeState::Up
        } else if !scene.health.knows(node) {
            NodeState::Unheard
        } else if scene.health.is_suspected(node, scene.now) {
            NodeState::Suspected
        } else {
            NodeState::Up
        };
        // What it says is worth something while it is heard itself.
        let hears_ill = if state == NodeState::Up { self.hears_ill(node) } else { BTreeMap::new() };
        let deaf = |h: &Hearing| h.age > self.spec().timings.suspicion_ceiling && !h.knocks;
        let does_not_hear = hears_ill.iter().filter(|(_, h)| deaf(h)).map(|(n, _)| n.clone()).collect();
        let misses = hears_ill.iter().filter(|(_, h)| h.lost >= LOSSY).map(|(n, h)| (n.clone(), h.lost));
        NodeView {
            node: node.clone(),
            zone: spec.zone.clone(),
            votes: spec.votes,
            votes_count: self.votes_count(node),
            witness: spec.witness,
            state,
            silent_ms: silent.as_millis() as u64,
            does_not_hear,
            misses: misses.collect(),
            fenced: self.state().fenced(node).map(|f| f.why.clone()),
            power: self.power_of(node),
        }
    }

    /// Whom a node does not hear as it should: from its report, which comes round broken links, else from its last beat, which does
    /// not say since when.
    fn hears_ill(&self, node: &NodeId) -> BTreeMap<NodeId, Hearing> {
        let scene = self.scene();
        if node == self.me() {
            return scene.health.ill(scene.now);
        }
        let reported = scene.reports.get(node).filter(|_| self.is_coordinator() && scene.reports_in(node));
        if let Some(ill) = reported.and_then(|h| h.report.parts.hears_ill.as_ref()) {
            return ill.clone();
        }
        let unheard = |other: &&NodeId| *other != node && scene.health.heard_by(node, other) == Some(false);
        let silent = Hearing { age: Duration::MAX, ..Hearing::default() };
        self.spec().nodes.keys().filter(unheard).map(|n| (n.clone(), silent)).collect()
    }

    fn quorum_view(&self, nodes: &[NodeView]) -> Quorum {
        let votes = self.votes();
        let up = || nodes.iter().filter(|n| n.state == NodeState::Up && n.votes_count != Some(false));
        let heard: u32 = up().map(|n| n.votes).sum();
        let has_majority = heard >= votes.needed();
        let needs = |n: &&NodeView| has_majority && n.votes > 0 && heard - n.votes < votes.needed();
        let cannot_lose = up().filter(needs).map(|n| n.node.clone());
        Quorum { total: votes.total(), needed: votes.needed(), heard, cannot_lose: cannot_lose.collect() }
    }

    fn workload_view(&self, id: &WorkloadId) -> WorkloadView {
        let scene = self.scene();
        let spec = &self.spec().workloads[id];
        let w = self.state().workload(id);
        let primary = match &w.tenure {
            Tenure::Open { holder, .. } => Some(holder.clone()),
            _ => None,
        };
        let head = primary.as_ref().and_then(|p| scene.replica(p, id)).and_then(|r| r.seen.as_ref()?.position);
        let wait = writes_wait(w, spec);
        let replicas: Vec<ReplicaView> = spec
            .replicas
            .iter()
            .map(|(node, replica)| {
                let report = scene.replica(node, id).cloned();
                let fresh = scene.reports_in(node);
                let (state, detail) = match (self.state().fenced(node), fresh) {
                    (Some(_), true) => (ReplicaState::Stopped, "fenced: waits to be readmitted".into()),
                    (Some(fenced), false) if fenced.off => (ReplicaState::Unknown, "fenced, its power is off".into()),
                    _ => replica_state(report.as_ref().filter(|_| fresh), w.unsound(node), wait),
                };
                let position = report.as_ref().filter(|_| fresh).and_then(|r| r.seen.as_ref()).filter(|o| o.runs);
                let lag = match (head, position) {
                    (Some(head), Some(seen)) => seen.position.map(|at| head.0.saturating_sub(at.0)),
                    _ => None,
                };
                ReplicaView {
                    node: node.clone(),
                    state,
                    detail,
                    address: replica.address,
                    rank: replica.rank,
                    in_sync_set: w.sync.sure.contains(node),
                    lag,
                    standing: w.standing.get(node).cloned().unwrap_or_default(),
                    report,
                }
            })
            .collect();
        let gates = spec.gates.iter().map(|(node, address)| {
            let report =
                scene.reports.get(node).filter(|_| scene.reports_in(node)).and_then(|h| h.report.parts.gates.get(id));
            let forwards = report.and_then(|r| r.forwarding).filter(|e| *e == w.epoch).and(primary.clone());
            GateView { node: node.clone(), address: *address, forwards_to: forwards, report: report.cloned() }
        });
        let gates = gates.collect();
        let candidates = candidates::list(&scene, id, spec);
        let (condition, sentence, next) = self.workload_sentence(id, &replicas, &candidates);
        WorkloadView {
            workload: id.clone(),
            condition,
            sentence,
            next,
            epoch: w.epoch,
            mode: w.mode,
            tenure: w.tenure.clone(),
            primary,
            sync: w.sync.clone(),
            gates,
            address: self.address_view(id),
            replicas,
            candidates,
            operation: w.operation,
        }
    }

    fn address_view(&self, id: &WorkloadId) -> Option<AddressView> {
        let (scene, w) = (self.scene(), self.state().workload(id));
        let spec = self.spec().workloads[id].address.as_ref()?;
        let holder = w.place.holder.clone();
        let heard = holder.as_ref().and_then(|h| scene.reports.get(h).filter(|_| scene.reports_in(h)));
        let report = heard.and_then(|h| h.report.parts.addresses.get(id));
        let conflict = |r: &AddressReport| Some(format!("{} answers for it too", r.conflict.as_ref()?));
        let uncounted = |r: &AddressReport| Some(format!("its flows are not known: {}", r.unlisted.as_ref()?));
        Some(AddressView {
            on: spec.on.iter().map(ToString::to_string).collect(),
            holder,
            held: report.is_some_and(|r| r.held) && !w.place.leaving,
            flows: report.map_or(0, |r| r.flows),
            remark: report.and_then(|r| conflict(r).or_else(|| r.trouble.clone()).or_else(|| uncounted(r))),
        })
    }

    fn workload_sentence(
        &self, id: &WorkloadId, replicas: &[ReplicaView], candidates: &[Candidate],
    ) -> (Condition, String, Option<String>) {
        let w = self.state().workload(id);
        let operation = self.state().running(id);
        let doing = operation.map(|(op, o)| {
            let last = self.steps_of(op).pop().map(|s| s.text).unwrap_or_default();
            format!("{id}: {} ({op}) is under way: {last}", o.what.kind)
        });
        if !self.is_coordinator() {
            let holder = w.holder().map_or("nobody".into(), ToString::to_string);
            let text =
                format!("{id}: the log gives epoch {} to {holder}; only the coordinator knows how it is now", w.epoch);
            return (Condition::Down, text, None);
        }
        match &w.tenure {
            Tenure::Vacant => {
                let text = "waiting for every replica's report before the first primary is chosen";
                (Condition::Settling, format!("{id}: {text}"), None)
            }
            Tenure::Open { holder, serving } => {
                let asked = replicas.len() - 1;
                let streaming = w.sync.sure.len();
                let primary_answers = replicas.iter().any(|r| r.node == *holder && r.state == ReplicaState::Primary);
                if let Some((id, o)) = operation.filter(|(_, o)| o.waits()) {
                    let text =
                        format!("{}: {} ({id}) waits for approval: {}", o.what.workload, o.what.kind, o.what.why);
                    return (Condition::Down, text, Some(format!("karst operation approve {id}")));
                }
                if let Some(doing) = doing {
                    return (Condition::Settling, doing, None);
                }
                if !primary_answers && w.mode == Mode::Watch {
                    let detail = replicas.iter().find(|r| r.node == *holder).map_or("", |r| r.detail.as_str());
                    let text = format!("{id}: {holder} does not serve ({detail}); mode is watch, so nothing is done");
                    let to = candidates.iter().find(|c| c.excluded.is_none());
                    let next = to.map(|c| format!("karst failover {id} --to {}, or karst mode act {id}", c.node));
                    return (Condition::Down, text, next);
                }
                let scene = self.scene();
                if !primary_answers && holder != scene.me && scene.health.is_suspected(holder, scene.now) {
                    let over = scene.lease_over_at(&Claim::Primary(id.clone())).since(scene.now).as_millis();
                    let text = format!(
                        "{id}: {holder} is not heard; in {over} ms at most its lease is over, and another may take over"
                    );
                    return (Condition::Settling, text, None);
                }
                if !primary_answers || !serving {
                    return (Condition::Settling, format!("{id}: waiting for {holder} to serve"), None);
                }
                let spec = &self.spec().workloads[id];
                if streaming < asked && spec.loss == Loss::None {
                    let missing: Vec<String> = replicas
                        .iter()
                        .filter(|r| r.node != *holder && !r.in_sync_set)
                        .map(|r| format!("{} ({})", r.node, r.detail))
                        .collect();
                    let streams = |r: &ReplicaReport| r.seen.as_ref().is_some_and(|o| o.streaming);
                    let works = |r: &ReplicaReport| r.doing.is_some() || streams(r);
                    // What was reported by somebody who is not heard any more is coming no nearer.
                    let coming =
                        |r: &ReplicaView| r.state != ReplicaState::Unknown && r.report.as_ref().is_some_and(works);
                    let coming = replicas.iter().any(|r| !r.in_sync_set && coming(r));
                    let wait = writes_wait(w, spec);
                    let what = match streaming {
                        _ if wait => "writes wait, as no standby can confirm them (alone = \"block\")".into(),
                        0 => "writes are unprotected (alone = \"continue\")".into(),
                        _ => format!("{streaming} of {asked} standbys have every write"),
                    };
                    let text = format!("{id}: {holder} is primary; {what}; missing: {}", missing.join(", "));
                    let condition = match (coming, wait) {
                        (true, _) => Condition::Settling,
                        (false, true) => Condition::Down,
                        (false, false) => Condition::Weakened,
                    };
                    let next = (condition == Condition::Down).then(|| "bring one of the standbys back".into());
                    return (condition, text, next);
                }
                (
                    Condition::Healthy,
                    format!("{id}: {holder} is primary; {streaming} of {asked} standbys have every write"),
                    None,
                )
            }
            Tenure::Assigned { .. } | Tenure::Revoking { .. } => {
                let text = doing.unwrap_or_else(|| format!("{id}: no primary right now: handing over"));
                (Condition::Settling, text, None)
            }
            Tenure::Ended { last, .. } => {
                let reasons: Vec<String> =
                    candidates.iter().filter_map(|c| Some(format!("{}: {}", c.node, c.excluded.as_ref()?))).collect();
                let pending = candidates.iter().any(|c| c.pending || c.excluded.is_none());
                let text = format!("{id}: no primary since {last}'s epoch ended; {}", reasons.join("; "));
                let lossy = candidates.iter().find(|c| c.may_lack.is_some());
                let or = lossy.map_or(String::new(), |c| {
                    format!("; or accept a loss: karst failover {id} --to {} --plan shows how much", c.node)
                });
                let next = format!("bring {last} back, or one of the standbys that has every write{or}");
                if pending { (Condition::Settling, text, None) } else { (Condition::Down, text, Some(next)) }
            }
        }
    }
}

/// Whether no write is acknowledged, since there is no standby to confirm it (D3).
fn writes_wait(w: &WorkloadState, spec: &WorkloadSpec) -> bool {
    spec.loss == Loss::None && spec.alone == Alone::Block && w.sync.sure.is_empty()
}

/// A replica's state and what to know of it. That writes wait for a standby is not to be seen in the server: it takes them.
fn replica_state(report: Option<&ReplicaReport>, unsound: Option<&str>, writes_wait: bool) -> (ReplicaState, String) {
    let Some(report) = report else { return (ReplicaState::Unknown, "not heard".into()) };
    let Some(seen) = &report.seen else { return (ReplicaState::Unknown, "not probed yet".into()) };
    let far = |since: Duration| {
        let Some(copied) = seen.copied.filter(|c| c.total > 0) else { return String::new() };
        let rest =
            copied.rest(since).map_or(String::new(), |d| format!(", about {} s left", d.as_secs().saturating_add(1)));
        format!(": {} % of {} MB{rest}", copied.percent(), copied.total >> 20)
    };
    let doing = report
        .doing
        .as_ref()
        .map(|Doing { action, time }| format!("{}, for {} s{}", action.describe(), time.as_secs(), far(*time)));
    let rejoining = report.doing.as_ref().is_some_and(|doing| doing.action.is_rejoining());
    let state = match (seen.runs, seen.role) {
        _ if rejoining => ReplicaState::Rejoining,
        (false, _) => ReplicaState::Stopped,
        (true, None) => ReplicaState::Starting,
        (true, Some(Role::Primary)) => ReplicaState::Primary,
        (true, Some(Role::Standby)) => ReplicaState::Standby,
    };
    let detail = doing
        .or_else(|| unsound.map(|why| format!("comes back by a rewind or a clone: {why}")))
        .or_else(|| report.failed.clone())
        .or_else(|| seen.trouble.clone())
        .unwrap_or_else(|| match (state, seen.streaming) {
            (ReplicaState::Primary, _) if seen.can_write == Some(true) && writes_wait => {
                "takes writes, which wait".into()
            }
            (ReplicaState::Primary, _) if seen.can_write == Some(true) => "accepts writes".into(),
            (ReplicaState::Primary, _) => "no write was tried yet".into(),
            (ReplicaState::Standby, true) => "streaming".into(),
            (ReplicaState::Standby, false) => "not streaming".into(),
            (other, _) => other.to_string(),
        });
    (state, detail)
}

fn sentence(
    coordinator: Option<&NodeId>, quorum: &Quorum, nodes: &[NodeView], workloads: &[WorkloadView], me: &NodeId,
) -> (Condition, String) {
    if coordinator.is_none() {
        let silent: Vec<&str> = nodes.iter().filter(|n| n.state != NodeState::Up).map(|n| n.node.as_str()).collect();
        let text = if quorum.heard >= quorum.needed {
            format!("No coordinator yet: an election is under way, as {me} sees it.")
        } else {
            format!(
                "No majority: {me} hears {} of {} votes and {} are needed; not heard: {}. Nothing is promoted.",
                quorum.heard,
                quorum.total,
                quorum.needed,
                silent.join(", ")
            )
        };
        return (Condition::Down, text);
    }
    let worst = workloads.iter().max_by_key(|w| w.condition);
    let mute: Vec<&str> =
        nodes.iter().filter(|n| n.votes > 0 && n.votes_count == Some(false)).map(|n| n.node.as_str()).collect();
    let silent: Vec<&str> = nodes.iter().filter(|n| n.state != NodeState::Up).map(|n| n.node.as_str()).collect();
    match worst {
        Some(w) if w.condition != Condition::Healthy => (w.condition, format!("{}.", w.sentence)),
        _ if !silent.is_empty() => (Condition::Weakened, format!("Not heard: {}. Workloads run.", silent.join(", "))),
        _ if !mute.is_empty() => {
            let names = mute.join(", ");
            let text = format!(
                "No vote of {names} counts: a node store is new there; karst why says what to do. Workloads run."
            );
            (Condition::Weakened, text)
        }
        _ if nodes.iter().any(|n| n.fenced.is_some()) => {
            let names: Vec<&str> = nodes.iter().filter(|n| n.fenced.is_some()).map(|n| n.node.as_str()).collect();
            (Condition::Weakened, format!("Fenced and heard: {}; karst node readmit takes it back.", names.join(", ")))
        }
        Some(w) if workloads.len() == 1 => (Condition::Healthy, format!("All is well. {}.", w.sentence)),
        _ => (Condition::Healthy, format!("All is well: {} workloads, all standbys in place.", workloads.len())),
    }
}
