//! What this node says of the cluster: made by the coordinator, or, where there is none, by the
//! node that was asked from what it knows itself.

use super::Node;
use super::account::Account;
use super::lead::Lead;
use super::sentence::{Said, Subject, Whole, headline};
use crate::about::About;
use crate::address::AddressReport;
use crate::authority::Claim;
use crate::health::{Hearing, LOSSY};
use crate::ids::{BootId, NodeId, OperationId, WorkloadId};
use crate::intent::{Intended, Want};
use crate::operation::Phase;
use crate::progress::{PhaseTime, Progress};
use crate::replica::{Action, Doing, Downstream, Observation, ReplicaReport, Role};
use crate::spec::{Finding, FindingKind, Loss, Readmit, Severity, check};
use crate::state::{Over, Tenure};
use crate::steward::Heard;
use crate::steward::candidates;
use crate::steward::outlook::{Lasting, Need, Outlook, Writes, outlook, writes_wait};
use crate::steward::steps::steps;
use crate::text::size;
use crate::time::Time;
use crate::view::{
    AboutView, AddressView, DoingView, FindingView, GateCounts, GateView, IfLost, IntentKind,
    IntentOver, IntentView, NeedKind, NeedView, NodeState, NodeView, Quorum, QuorumNext,
    ReplicaState, ReplicaView, RoomView, ServerView, SettingsView, StandbyView, Status, SyncView,
    TodoView, Work, WorkloadView, WritesView,
};
use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

impl Node {
    /// What this node can say about the cluster now.
    pub fn status(&self) -> Status {
        let own = || Heard::now(self.now, self.report());
        match &self.lead {
            Some(lead) => self.account(lead).status(),
            None => self.account(&Lead::alone(&self.me, own())).status(),
        }
    }
}

impl Account<'_> {
    fn status(&self) -> Status {
        let scene = &self.scene;
        let nodes: Vec<NodeView> = self
            .scene
            .spec
            .nodes
            .keys()
            .map(|n| self.node_view(n))
            .collect();
        let quorum = self.quorum_view(&nodes);
        let workloads: Vec<WorkloadView> = self
            .scene
            .spec
            .workloads
            .keys()
            .map(|id| self.workload_view(id))
            .collect();
        let coordinator = self.node.coordinator().cloned();
        let (condition, sentence) = headline(&Whole {
            coordinator: coordinator.as_ref(),
            quorum: &quorum,
            nodes: &nodes,
            workloads: &workloads,
            me: self.scene.me,
            leads: self.leads,
        });
        let worst = workloads.iter().max_by_key(|w| w.writes.state);
        let writes = worst.map_or(NOT_KNOWN, |w| w.writes);
        let mut needs_you = self.needs(&nodes, &workloads);
        needs_you.extend(self.lacks_voters(&quorum, &nodes));
        let operations = self
            .scene
            .state
            .operations
            .iter()
            .rev()
            .take(30)
            .map(|(id, o)| Progress {
                id,
                what: o.what.clone(),
                waits: o.waits() && o.outcome.is_none(),
                steps: self.node.journal.steps_of(id),
                target: o.target.clone(),
                outcome: o.outcome.clone(),
                phases: timed(&o.phases),
            });
        Status {
            cluster: self.scene.spec.cluster.clone(),
            seen_by: self.scene.me.clone(),
            coordinator,
            term: self.node.term(),
            applied: self.scene.state.applied,
            condition,
            sentence,
            writes,
            needs_you,
            quorum,
            nodes,
            operations: operations.collect(),
            intents: self.intents(),
            intents_over: self.intents_over(),
            revision: self.node.revision.number,
            workloads,
            findings: self.findings(),
            at: scene.now,
        }
    }

    fn intents(&self) -> Vec<IntentView> {
        let view = |(id, intended): (&OperationId, &Intended)| {
            let steps = steps(&self.scene, intended);
            let (kind, nodes) = match &intended.what.want {
                Want::Revision(_) => (IntentKind::Revision, Vec::new()),
                Want::Maintenance(m) => {
                    (IntentKind::Maintenance, m.nodes.iter().cloned().collect())
                }
            };
            IntentView {
                id: *id,
                kind,
                title: intended.what.want.title(),
                nodes,
                by: intended.what.by.clone(),
                at: intended.what.at,
                why: intended.what.why.clone(),
                until: intended.what.until,
                turned: intended.turned.is_some(),
                empty: steps
                    .iter()
                    .find(|step| !step.done)
                    .is_some_and(|s| s.rests),
                steps: steps.iter().map(TodoView::from).collect(),
            }
        };
        self.scene.state.charter.intents.iter().map(view).collect()
    }

    fn intents_over(&self) -> Vec<IntentOver> {
        let view = |(id, over): (&OperationId, &Over)| IntentOver {
            id: *id,
            title: over.title.clone(),
            by: over.by.clone(),
            at: over.at,
            why: over.why.clone(),
            outcome: over.outcome.clone(),
        };
        let over = self.scene.state.charter.over.iter().rev();
        over.map(view).collect()
    }

    /// All that stands: what nobody knows of first, then by how bad it is.
    pub(super) fn findings(&self) -> Vec<FindingView> {
        let known = &self.scene.state.acknowledged;
        let mut views: Vec<FindingView> = self.found().into_iter().map(FindingView::from).collect();
        for view in &mut views {
            view.acknowledged = known.get(&view.name).cloned();
        }
        views.sort_by_key(|view| (view.acknowledged.is_some(), view.finding.severity));
        views
    }

    fn found(&self) -> Vec<Finding> {
        let seen = self
            .unguarded()
            .into_iter()
            .chain(self.unlisted())
            .chain(self.devices.findings());
        let seen = seen
            .chain(self.uncounted())
            .chain(self.unnamed())
            .chain(self.overruled())
            .chain(self.of_hosts());
        check(self.scene.spec).into_iter().chain(seen).collect()
    }

    /// Whether its node store counts, as it says itself.
    fn votes_count(&self, node: &NodeId) -> Option<bool> {
        if node == self.scene.me {
            Some(self.node.counts())
        } else {
            Some(self.scene.reports.get(node)?.report.counts)
        }
    }

    /// A voter whose node store is new, or went back in time: it does not vote (A6).
    fn uncounted(&self) -> Vec<Finding> {
        let voters = self.scene.spec.nodes.iter().filter(|(id, _)| {
            self.node.voters().weight(id) > 0 && self.votes_count(id) == Some(false)
        });
        let finding = |(id, _): (&NodeId, _)| Finding {
            kind: FindingKind::VoteNotCounted,
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
        let scene = &self.scene;
        let mut findings = Vec::new();
        for (id, spec) in &self.scene.spec.workloads {
            for node in spec.replicas.keys() {
                let seen = scene.replica(node, id).and_then(|r| r.seen.as_ref());
                for setting in seen.into_iter().flat_map(|o| &o.overruled) {
                    let what = format!(
                        "{} = {} is in force on {node} ({})",
                        setting.name, setting.value, setting.source
                    );
                    let risk = match setting.ends_promise {
                        true => "commits may return that no standby has",
                        false => {
                            "writes that it acknowledges may be lost or damaged in a crash or a failover"
                        }
                    };
                    findings.push(Finding {
            kind: FindingKind::SettingOverruled,
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
        let holder = |id: &WorkloadId| self.scene.state.workload(id).holder().cloned();
        let gone = self
            .scene
            .spec
            .workloads
            .iter()
            .filter_map(|(id, s)| Some((id, holder(id)?, s)));
        let gone = gone.filter(|(_, holder, s)| !s.replicas.contains_key(holder));
        let finding = |(id, holder, _): (&WorkloadId, NodeId, _)| Finding {
            kind: FindingKind::PrimaryNotInSpec,
            severity: Severity::Warning,
            path: vec!["workload".into(), id.to_string(), "replica".into()],
            what: format!(
                "{holder} is primary of {id}, and the spec names no replica there: no gate forwards to it"
            ),
            remedy: format!(
                "put [workload.{id}.replica.{holder}] back, and move the workload before it is taken out"
            ),
        };
        gone.map(finding).collect()
    }

    /// A floating address whose holder does not know who is connected over it.
    fn unlisted(&self) -> Vec<Finding> {
        let scene = &self.scene;
        let finding = |id: &WorkloadId| {
            let holder = self.scene.state.workload(id).place.holder.as_ref()?;
            let why = scene
                .reports
                .get(holder)?
                .report
                .parts
                .addresses
                .get(id)?
                .unlisted
                .as_ref()?;
            Some(Finding {
                kind: FindingKind::ConnectionsNotListed,
                severity: Severity::Warning,
                path: vec!["workload".into(), id.to_string(), "address".into()],
                what: format!(
                    "{holder} cannot list the connections over its address ({why}): clients that wait for an answer when it \
                     moves are not told"
                ),
                remedy: "load the kernel modules tcp_diag and inet_diag there, or build them in"
                    .into(),
            })
        };
        self.scene
            .spec
            .workloads
            .keys()
            .filter_map(finding)
            .collect()
    }

    /// A primary that no packet guard covers (C3).
    fn unguarded(&self) -> Vec<Finding> {
        let scene = &self.scene;
        let finding = |id: &WorkloadId| {
            let holder = self.scene.state.workload(id).holder()?;
            let why = scene.replica(holder, id)?.unguarded.as_ref()?;
            Some(Finding {
                kind: FindingKind::NoPacketGuard,
                severity: Severity::Warning,
                path: vec!["workload".into(), id.to_string()],
                what: format!(
                    "{holder} has no packet guard ({why}): frozen as a whole and thawed later, its server may answer for \
                     an instant before it is ended"
                ),
                remedy:
                    "install nftables there and give karstd the right to use it (CAP_NET_ADMIN)"
                        .into(),
            })
        };
        self.scene
            .spec
            .workloads
            .keys()
            .filter_map(finding)
            .collect()
    }

    fn node_view(&self, node: &NodeId) -> NodeView {
        let scene = &self.scene;
        let spec = &self.scene.spec.nodes[node];
        let silent = if node == self.scene.me {
            Duration::ZERO
        } else {
            scene.health.silence(node, scene.now)
        };
        let state = if node == self.scene.me || (self.leads && scene.reports_in(node)) {
            NodeState::Up
        } else if !scene.health.knows(node) {
            NodeState::Unheard
        } else if scene.health.is_suspected(node, scene.now) {
            NodeState::Suspected
        } else {
            NodeState::Up
        };
        // What it says is worth something while it is heard itself.
        let hears_ill = if state == NodeState::Up {
            self.hears_ill(node)
        } else {
            BTreeMap::new()
        };
        let deaf = |h: &Hearing| h.age > self.scene.spec.timings.suspicion_ceiling && !h.knocks;
        let does_not_hear = hears_ill
            .iter()
            .filter(|(_, h)| deaf(h))
            .map(|(n, _)| n.clone())
            .collect();
        let misses = hears_ill
            .iter()
            .filter(|(_, h)| h.lost >= LOSSY)
            .map(|(n, h)| (n.clone(), h.lost));
        NodeView {
            node: node.clone(),
            zone: spec.zone.clone(),
            votes: self.node.voters().weight(node),
            maintenance: self.scene.leaving.node(node),
            votes_count: self.votes_count(node),
            witness: spec.witness,
            state,
            silent_ms: silent.as_millis() as u64,
            does_not_hear,
            misses: misses.collect(),
            fenced: self.scene.state.fenced(node).map(|f| f.why.clone()),
            power: self.devices.power_of(scene.spec, node),
            console: spec.console_url(),
            about: self.about(node).map(|(boot, about)| AboutView {
                version: about.version.clone(),
                servers: about.servers.clone(),
                boot: boot.to_string(),
                unguarded: about.unguarded.clone(),
                watchdog: about.watchdog.clone(),
                rooms: about.rooms.iter().map(RoomView::from).collect(),
                certificate_until: about.certificate_until,
                since: about.since,
            }),
        }
    }

    /// What a node says of itself, with the run of its host.
    fn about(&self, node: &NodeId) -> Option<(&BootId, &About)> {
        if node == self.scene.me {
            let host = &self.node.host;
            return Some((&host.boot, host.about.newest.as_deref()?));
        }
        let report = &self.scene.reports.get(node)?.report;
        Some((&report.boot, report.parts.about.as_deref()?))
    }

    /// What nodes say is wrong on their hosts, and volumes that are nearly full.
    fn of_hosts(&self) -> Vec<Finding> {
        let mut found = Vec::new();
        for node in self.scene.spec.nodes.keys() {
            let Some((_, about)) = self.about(node) else {
                continue;
            };
            // A node speaks for itself.
            let own = |f: &&Finding| f.path.get(1).is_some_and(|of| of == node.as_str());
            found.extend(about.findings.iter().filter(own).cloned());
            found.extend(
                about
                    .rooms
                    .iter()
                    .filter(|room| room.is_nearly_full())
                    .map(|room| Finding {
                        kind: FindingKind::DiskFills,
                        severity: Severity::Warning,
                        path: vec!["node".into(), node.to_string()],
                        what: format!(
                            "{} has {} free of {} for its {} ({})",
                            node,
                            size(room.free),
                            size(room.total),
                            room.of,
                            room.path
                        ),
                        remedy: "make room there, or give it a larger volume".into(),
                    }),
            );
        }
        found
    }

    /// Whom a node does not hear as it should: from its report, which comes round broken links,
    /// else from its last beat, which does not say since when.
    fn hears_ill(&self, node: &NodeId) -> BTreeMap<NodeId, Hearing> {
        let scene = &self.scene;
        if node == self.scene.me {
            return scene.health.ill(scene.now);
        }
        let reported = scene
            .reports
            .get(node)
            .filter(|_| self.leads && scene.reports_in(node));
        if let Some(ill) = reported.and_then(|h| h.report.parts.hears_ill.as_ref()) {
            return ill.clone();
        }
        let unheard =
            |other: &&NodeId| *other != node && scene.health.heard_by(node, other) == Some(false);
        let silent = Hearing {
            age: Duration::MAX,
            ..Hearing::default()
        };
        self.scene
            .spec
            .nodes
            .keys()
            .filter(unheard)
            .map(|n| (n.clone(), silent))
            .collect()
    }

    fn quorum_view(&self, nodes: &[NodeView]) -> Quorum {
        let voters = self.node.voters();
        let votes = &voters.now;
        let weight = |n: &NodeView| votes.weight(&n.node);
        let up = || {
            nodes
                .iter()
                .filter(|n| n.state == NodeState::Up && n.votes_count != Some(false))
        };
        let heard: u32 = up().map(weight).sum();
        let has_majority = heard >= votes.needed();
        let needs =
            |n: &&NodeView| has_majority && weight(n) > 0 && heard - weight(n) < votes.needed();
        let next = voters.next.as_ref().map(|next| QuorumNext {
            votes: next.iter().map(|(n, w)| (n.clone(), w)).collect(),
            needed: next.needed(),
            heard: up().map(|n| next.weight(&n.node)).sum(),
        });
        let cannot_lose = up().filter(needs).map(|n| n.node.clone());
        let counted: Vec<&NodeView> = up().filter(|n| n.votes > 0).collect();
        Quorum {
            total: votes.total(),
            needed: votes.needed(),
            heard,
            cannot_lose: cannot_lose.collect(),
            if_lost: if_lost(&counted, heard, votes.needed()),
            next,
        }
    }

    fn workload_view(&self, id: &WorkloadId) -> WorkloadView {
        let scene = &self.scene;
        let spec = &self.scene.spec.workloads[id];
        let w = self.scene.state.workload(id);
        let primary = match &w.tenure {
            Tenure::Open { holder, .. } => Some(holder.clone()),
            _ => None,
        };
        let head = primary
            .as_ref()
            .and_then(|p| scene.replica(p, id))
            .and_then(|r| r.seen.as_ref()?.number());
        let nodes = spec.replicas.keys();
        let replicas: Vec<_> = nodes
            .map(|node| self.replica_view(id, node, head))
            .collect();
        let gates = spec.gates.keys();
        let gates = gates
            .map(|node| self.gate_view(id, node, primary.as_ref()))
            .collect();
        let candidates = candidates::list(scene, id, spec);
        let lasting = self.lasting(id);
        let Said {
            condition,
            sentence,
            next,
        } = self.workload_sentence(&Subject {
            id,
            outlook: &lasting.outlook,
            replicas: &replicas,
            candidates: &candidates,
        });
        let for_ms = |since: Time| {
            let time = scene.now.since(since).as_millis() as u64;
            self.leads.then_some(time)
        };
        let needs_you = lasting.outlook.need.as_ref().map(|need| NeedView {
            kind: need_kind(need),
            about: id.to_string(),
            what: format!("{id}: {sentence}"),
            next: next.clone().unwrap_or_default(),
            for_ms: for_ms(lasting.need_since),
        });
        WorkloadView {
            workload: id.clone(),
            condition,
            sentence,
            writes: WritesView {
                state: lasting.outlook.writes,
                for_ms: for_ms(lasting.writes_since),
            },
            needs_you,
            next,
            epoch: w.epoch,
            mode: w.mode,
            mode_set: w.mode_set.clone(),
            settings: SettingsView {
                driver: spec.driver.clone(),
                loss: match spec.loss {
                    Loss::None => 0,
                    Loss::Bytes(bytes) => bytes,
                },
                alone: spec.alone,
                restart: spec.restart,
            },
            lease_left_ms: self.lease_left(id),
            primary,
            sync: SyncView {
                number: w.sync.number,
                sure: w.sync.sure.clone(),
                asked: w.sync.asked.clone(),
                unprotected: w.sync.unprotected,
            },
            gates,
            address: self.address_view(id),
            replicas,
            candidates,
            operation: w.operation,
        }
    }

    fn lease_left(&self, id: &WorkloadId) -> Option<u64> {
        let claim = Claim::Primary(id.clone());
        let left = self.scene.ledger.left(&claim, self.scene.now)?;
        self.leads.then_some(left.as_millis() as u64)
    }

    /// How a workload stands, and since when.
    fn lasting(&self, id: &WorkloadId) -> Lasting {
        let scene = &self.scene;
        let spec = scene.spec.workloads.get(id).filter(|_| self.leads);
        let now = spec.map_or(NOTHING_KNOWN, |spec| outlook(scene, id, spec));
        Lasting::next(self.outlooks.get(id), now, scene.now)
    }

    /// Nothing is decided until some come back. What else is needed nobody knows meanwhile.
    fn lacks_voters(&self, quorum: &Quorum, nodes: &[NodeView]) -> Option<NeedView> {
        if self.leads || quorum.heard >= quorum.needed {
            return None;
        }
        let silent = nodes
            .iter()
            .filter(|n| n.votes > 0 && n.state != NodeState::Up);
        let silent: Vec<&str> = silent.map(|n| n.node.as_str()).collect();
        Some(NeedView {
            kind: NeedKind::BringVoters,
            about: self.scene.spec.cluster.clone(),
            what: format!(
                "{} hears {} of {} votes, and {} are needed",
                self.scene.me, quorum.heard, quorum.total, quorum.needed
            ),
            next: format!(
                "bring {} back, or mend the network to it",
                silent.join(" or ")
            ),
            for_ms: None,
        })
    }

    /// All that waits for a person.
    fn needs(&self, nodes: &[NodeView], workloads: &[WorkloadView]) -> Vec<NeedView> {
        let mut of_workloads: Vec<&WorkloadView> = workloads.iter().collect();
        of_workloads.sort_by_key(|w| std::cmp::Reverse(w.writes.state));
        let of_workloads = of_workloads.into_iter().filter_map(|w| w.needs_you.clone());
        let readmit = |n: &NodeView| {
            let asks = self.scene.spec.nodes.get(&n.node)?.readmit == Readmit::Ask;
            let why = n.fenced.as_ref()?;
            (asks && self.leads && n.state == NodeState::Up).then(|| NeedView {
                kind: NeedKind::Readmit,
                about: n.node.to_string(),
                what: format!("{} is fenced ({why}) and reachable", n.node),
                next: format!("karst node readmit {}", n.node),
                for_ms: None,
            })
        };
        let enrol = |n: &NodeView| {
            (n.votes > 0 && n.votes_count == Some(false)).then(|| NeedView {
                kind: NeedKind::Enrol,
                about: n.node.to_string(),
                what: format!("{} does not vote: its node store is new", n.node),
                next: format!(
                    "see that its state directory is the right one; karst node enrol {}",
                    n.node
                ),
                for_ms: None,
            })
        };
        let of_nodes = nodes.iter().filter_map(|n| readmit(n).or_else(|| enrol(n)));
        of_workloads.chain(of_nodes).collect()
    }

    /// `head` is how far the primary is.
    fn replica_view(&self, id: &WorkloadId, node: &NodeId, head: Option<u64>) -> ReplicaView {
        let (scene, w) = (&self.scene, self.scene.state.workload(id));
        let spec = &self.scene.spec.workloads[id];
        let replica = &spec.replicas[node];
        let report = scene.replica(node, id);
        let fresh = report.filter(|_| scene.reports_in(node));
        let (state, detail) = match self.scene.state.fenced(node) {
            Some(_) if scene.reports_in(node) => (
                ReplicaState::Stopped,
                "fenced: waits to be readmitted".into(),
            ),
            Some(fenced) if fenced.off => {
                (ReplicaState::Unknown, "fenced, its power is off".into())
            }
            _ => replica_state(fresh, w.unsound(node), writes_wait(w, spec)),
        };
        let seen = fresh.and_then(|r| r.seen.as_ref()).filter(|o| o.runs());
        let position = seen.and_then(Observation::number);
        let leaving = scene.leaving.replica(id, node).map(String::from);
        ReplicaView {
            node: node.clone(),
            state,
            detail: match &leaving {
                Some(why) => format!("{detail}; {why}"),
                None => detail,
            },
            address: replica.address,
            rank: replica.rank,
            in_sync_set: w.sync.sure.contains(node),
            lag: head.zip(position).map(|(head, at)| head.saturating_sub(at)),
            unsound: w.unsound(node).map(String::from),
            leaving,
            server: report.and_then(|r| r.seen.as_ref()).map(server_view),
            doing: report.and_then(|r| r.doing.as_ref()).map(doing_view),
            rejoined: report.and_then(|r| r.rejoined),
        }
    }

    fn gate_view(&self, id: &WorkloadId, node: &NodeId, primary: Option<&NodeId>) -> GateView {
        let (scene, epoch) = (&self.scene, self.scene.state.workload(id).epoch);
        let heard = scene.reports.get(node).filter(|_| scene.reports_in(node));
        let report = heard.and_then(|h| h.report.parts.gates.get(id));
        let forwards = report.and_then(|r| r.forwarding).filter(|e| *e == epoch);
        GateView {
            node: node.clone(),
            address: self.scene.spec.workloads[id].gates[node],
            forwards_to: forwards.and(primary.cloned()),
            seen: report.map(|r| GateCounts {
                listening: r.listening,
                connections: r.connections,
                waiting: r.waiting,
                refused: r.refused,
            }),
        }
    }

    fn address_view(&self, id: &WorkloadId) -> Option<AddressView> {
        let (scene, w) = (&self.scene, self.scene.state.workload(id));
        let spec = self.scene.spec.workloads[id].address.as_ref()?;
        let holder = w.place.holder.clone();
        let heard = holder
            .as_ref()
            .and_then(|h| scene.reports.get(h).filter(|_| scene.reports_in(h)));
        let report = heard.and_then(|h| h.report.parts.addresses.get(id));
        let conflict =
            |r: &AddressReport| Some(format!("{} answers for it too", r.conflict.as_ref()?));
        let uncounted = |r: &AddressReport| {
            Some(format!(
                "its connections are not known: {}",
                r.unlisted.as_ref()?
            ))
        };
        Some(AddressView {
            on: spec.on.iter().map(ToString::to_string).collect(),
            holder,
            held: report.is_some_and(|r| r.held) && !w.place.leaving,
            connections: report.map_or(0, |r| r.connections),
            remark: report.and_then(|r| {
                conflict(r)
                    .or_else(|| r.trouble.clone())
                    .or_else(|| uncounted(r))
            }),
        })
    }
}

const NOT_KNOWN: WritesView = WritesView {
    state: Writes::Unknown,
    for_ms: None,
};

const NOTHING_KNOWN: Outlook = Outlook {
    writes: Writes::Unknown,
    need: None,
};

/// Pairs that are named: nobody reads more.
const PAIRS: usize = 20;

/// Of the voters that are heard and count.
fn if_lost(voters: &[&NodeView], heard: u32, needed: u32) -> Vec<IfLost> {
    let without = |what: String, votes: u32| {
        let left = heard.saturating_sub(votes);
        let holds = left >= needed;
        IfLost { what, left, holds }
    };
    let single = |n: &NodeView| without(n.node.to_string(), n.votes);
    let zones: BTreeSet<&str> = voters.iter().map(|n| n.zone.as_str()).collect();
    let zones = zones.into_iter().map(|zone| {
        let there = voters.iter().filter(|n| n.zone == zone);
        without(format!("all of {zone}"), there.map(|n| n.votes).sum())
    });
    let mut all: Vec<IfLost> = voters.iter().map(|n| single(n)).chain(zones).collect();
    let bearable = voters.iter().filter(|n| single(n).holds);
    let pairs = bearable.clone().enumerate().flat_map(|(i, one)| {
        let others = bearable.clone().skip(i + 1);
        others.map(move |other| {
            let what = format!("{} and {}", one.node, other.node);
            without(what, one.votes + other.votes)
        })
    });
    all.extend(pairs.filter(|pair| !pair.holds).take(PAIRS));
    all
}

fn need_kind(need: &Need) -> NeedKind {
    match need {
        Need::Approve(_) => NeedKind::Approve,
        Need::TakeOver { .. } => NeedKind::TakeOver,
        Need::ChooseData(_) => NeedKind::ChooseData,
        Need::BringBack { .. } => NeedKind::BringBack,
        Need::BringStandby => NeedKind::BringStandby,
    }
}

fn timed(phases: &[(Phase, Duration)]) -> Vec<PhaseTime> {
    let timed = |(phase, took): &(Phase, Duration)| PhaseTime {
        phase: *phase,
        took: *took,
    };
    phases.iter().map(timed).collect()
}

fn server_view(seen: &Observation) -> ServerView {
    let standby = |d: &Downstream| StandbyView {
        node: d.node.clone(),
        sent: d.sent,
        flushed: d.flushed,
        replayed: d.replayed,
        streaming: d.streaming,
        delay_ms: d.delay.map(|delay| delay.as_millis() as u64),
    };
    ServerView {
        runs: seen.runs(),
        role: seen.role,
        position: seen.position.clone(),
        place: seen.place.clone(),
        received: seen.received,
        replayed: seen.replayed,
        upstream: seen.upstream.clone(),
        streaming: seen.streaming,
        can_write: seen.can_write,
        standbys: seen.standbys.iter().map(standby).collect(),
        overruled: seen.overruled.clone(),
        trouble: seen.trouble.clone(),
        copied: seen.copied,
    }
}

fn doing_view(doing: &Doing) -> DoingView {
    DoingView {
        work: match &doing.action {
            Action::Create => Work::Create,
            Action::StartPrimary | Action::StartStandby { .. } => Work::Start,
            Action::Checkpoint => Work::Checkpoint,
            Action::StopClean { .. } | Action::StopNow => Work::Stop,
            Action::Promote { .. } => Work::Promote,
            Action::Settle { .. } => Work::Settle,
            Action::Repoint { .. } => Work::Repoint,
            Action::Rewind { .. } => Work::Rewind,
            Action::Clone { .. } => Work::Clone,
            Action::SetSync(_) => Work::SetSync,
        },
        text: doing.action.describe(),
        for_ms: doing.time.as_millis() as u64,
    }
}

/// A replica's state and what to know of it. That writes wait for a standby is not to be seen in
/// the server: it takes them.
fn replica_state(
    report: Option<&ReplicaReport>,
    unsound: Option<&str>,
    writes_wait: bool,
) -> (ReplicaState, String) {
    let Some(report) = report else {
        return (ReplicaState::Unknown, "not heard".into());
    };
    let Some(seen) = &report.seen else {
        return (ReplicaState::Unknown, "not probed yet".into());
    };
    let far = |since: Duration| {
        let Some(copied) = seen.copied.filter(|c| c.total > 0) else {
            return String::new();
        };
        let rest = copied.rest(since).map_or(String::new(), |d| {
            format!(", about {} s left", d.as_secs().saturating_add(1))
        });
        format!(
            ": {} % of {} MB{rest}",
            copied.percent(),
            copied.total >> 20
        )
    };
    let doing = report.doing.as_ref().map(|Doing { action, time }| {
        format!(
            "{}, for {} s{}",
            action.describe(),
            time.as_secs(),
            far(*time)
        )
    });
    let rejoining = report
        .doing
        .as_ref()
        .is_some_and(|doing| doing.action.is_rejoining());
    let state = match (seen.runs(), seen.role) {
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
