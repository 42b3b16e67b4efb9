//! Sentences about how things are, made of facts: how a workload is and what a person can safely do
//! next, and the headline of the whole.

use super::account::Account;
use crate::authority::Claim;
use crate::ids::{Index, NodeId, WorkloadId};
use crate::operation::Mode;
use crate::spec::Loss;
use crate::state::{Tenure, WorkloadState};
use crate::steward::candidates::Candidate;
use crate::steward::outlook::{Need, Outlook, Writes, writes_wait};
use crate::view::{
    Condition, NodeState, NodeView, Quorum, ReplicaState, ReplicaView, WorkloadView,
};

pub(super) struct Said {
    pub condition: Condition,
    pub sentence: String,
    /// What a person can safely do.
    pub next: Option<String>,
}

impl Said {
    fn new(condition: Condition, sentence: String) -> Self {
        Self {
            condition,
            sentence,
            next: None,
        }
    }

    fn with(condition: Condition, sentence: String, next: String) -> Self {
        Self {
            next: Some(next),
            ..Self::new(condition, sentence)
        }
    }

    /// Without the cluster doing anything by itself, nothing is as good as it should be.
    fn left_alone(self, mode: Mode) -> Self {
        let remark = match mode {
            Mode::Act => return self,
            Mode::Ask => "a failover would wait for approval (mode ask)",
            Mode::Watch => "automatic failover is off (mode watch)",
        };
        Self {
            condition: self.condition.max(Condition::Degraded),
            sentence: format!("{}; {remark}", self.sentence),
            next: self.next,
        }
    }
}

/// What a workload is about, for its sentence.
pub(super) struct Subject<'a> {
    pub id: &'a WorkloadId,
    pub outlook: &'a Outlook,
    pub replicas: &'a [ReplicaView],
    pub candidates: &'a [Candidate],
}

impl Account<'_> {
    pub(super) fn workload_sentence(&self, subject: &Subject) -> Said {
        let w = self.scene.state.workload(subject.id);
        if !self.leads {
            let last = w.holder().map_or_else(
                || "no primary was known last".to_string(),
                |holder| format!("{holder} was primary when this was known last"),
            );
            let text = format!("unknown: no contact with the coordinator; {last}");
            return Said::new(Condition::Unknown, text);
        }
        match &subject.outlook.need {
            Some(need) => self.needed(subject, need),
            None => self.unattended(subject, w),
        }
    }

    /// A person is needed.
    fn needed(&self, subject: &Subject, need: &Need) -> Said {
        let id = subject.id;
        let condition = match subject.outlook.writes {
            Writes::Stopped | Writes::Paused => Condition::Down,
            Writes::Unknown => Condition::Unknown,
            Writes::Accepted => Condition::Degraded,
        };
        match need {
            Need::Approve(operation) => {
                let logged = self.scene.state.operations.get(*operation);
                let what = logged.map_or("a move".to_string(), |logged| {
                    format!("{} ({operation}): {}", logged.what.kind, logged.what.why)
                });
                let text = format!("waits for approval: {what}");
                Said::with(
                    condition,
                    text,
                    format!("karst operation approve {operation}"),
                )
            }
            Need::TakeOver { lost } => {
                let replica = subject.replicas.iter().find(|r| r.node == *lost);
                let detail = replica.map_or("not heard", |r| r.detail.as_str());
                let text = format!(
                    "{lost} does not serve ({detail}), and nothing is done about it (mode watch)"
                );
                let to = subject.candidates.iter().find(|c| c.excluded.is_none());
                let next = to.map_or(format!("karst mode act {id}"), |c| {
                    format!(
                        "karst failover {id} --to {}, or karst mode act {id}",
                        c.node
                    )
                });
                Said::with(condition, text, next)
            }
            Need::ChooseData(nodes) => {
                let text = format!(
                    "{} have data, and nobody knows whose are right: nothing is started",
                    names(nodes)
                );
                let next = format!(
                    "look at the data of each; karst failover {id} --to NODE takes that node's, and the others get copies of them"
                );
                Said::with(condition, text, next)
            }
            Need::BringBack { last } => nobody_may(subject, last, condition),
            Need::BringStandby => {
                let text = format!(
                    "writes wait, as no standby can confirm them (alone = \"block\"); missing: {}",
                    missing(subject.replicas, Loss::None)
                );
                Said::with(condition, text, "bring one of the standbys back".into())
            }
        }
    }

    /// Whatever is to be done, the cluster does it.
    fn unattended(&self, subject: &Subject, w: &WorkloadState) -> Said {
        let id = subject.id;
        if let Some(text) = self.doing(id) {
            return Said::new(unless_unknown(subject.outlook, Condition::Recovering), text);
        }
        let recovering = |text: String| Said::new(Condition::Recovering, text);
        match &w.tenure {
            Tenure::Vacant => {
                recovering("no primary yet: waiting for a report of every replica".into())
            }
            Tenure::Open { holder, .. } => match subject.outlook.writes {
                Writes::Accepted => self.served(subject, holder),
                _ if !self.scene.reports_in(holder) => self.unheard(subject, holder),
                _ if writes_wait(w, &self.scene.spec.workloads[id]) => recovering(format!(
                    "writes wait until a standby can confirm them; on its way: {}",
                    coming(subject.replicas)
                )),
                _ => Said::new(
                    unless_unknown(subject.outlook, Condition::Recovering),
                    self.on_its_way(id, holder),
                ),
            },
            Tenure::Assigned { .. } | Tenure::Revoking { .. } => {
                recovering("no primary right now: handing over".into())
            }
            Tenure::Ended { last, .. } => recovering(format!(
                "no primary since {last}'s epoch ended; choosing the next: {}",
                reasons(subject.candidates)
            )),
        }
    }

    /// The last step of what is under way.
    fn doing(&self, id: &WorkloadId) -> Option<String> {
        let (operation, logged) = self.scene.state.running(id)?;
        let last = self.node.journal.steps_of(operation).pop();
        let last = last.map_or(String::new(), |step| format!(": {}", step.text));
        Some(format!(
            "{} ({operation}) under way{last}",
            logged.what.kind
        ))
    }

    /// What clients wait for although the primary is heard.
    fn on_its_way(&self, id: &WorkloadId, holder: &NodeId) -> String {
        let w = self.scene.state.workload(id);
        let takes_writes = self
            .scene
            .replica(holder, id)
            .and_then(|report| report.seen.as_ref())
            .is_some_and(|seen| seen.can_write == Some(true));
        let place = w.place.holder.as_ref().filter(|_| takes_writes);
        match place {
            Some(at) if !self.scene.reports_in(at) => {
                let over = self.scene.lease_over_at(&Claim::Address(id.clone()));
                let left = over.since(self.scene.now).as_millis();
                format!(
                    "{holder} is primary; clients of its address wait: it was on {at}, which is not heard, and goes elsewhere \
                     within {left} ms"
                )
            }
            Some(at) if self.scene.spec.workloads[id].address.is_some() => {
                format!("{holder} is primary; clients of its address wait: it goes to {at}")
            }
            None if takes_writes && w.place.holder.is_none() => self.without_address(id, holder),
            _ => format!("waiting for {holder} to take writes"),
        }
    }

    /// The primary takes writes, and clients of its address reach nothing.
    fn without_address(&self, id: &WorkloadId, holder: &NodeId) -> String {
        let spec = &self.scene.spec.workloads[id];
        let Some(address) = &spec.address else {
            return format!("{holder} is primary; clients wait for its gates");
        };
        let why = self.scene.places(id, spec);
        let why = why.map(|(node, why)| format!("{node}: {why}"));
        let why: Vec<String> = why.collect();
        let text = format!(
            "{holder} is primary; clients of its address {} wait",
            address.listed()
        );
        if why.is_empty() {
            return text;
        }
        format!("{text}: no node may have it ({})", why.join("; "))
    }

    /// The primary's host is not heard, and its lease may still be valid.
    fn unheard(&self, subject: &Subject, holder: &NodeId) -> Said {
        let id = subject.id;
        let over = self.scene.lease_over_at(&Claim::Primary(id.clone()));
        let left = over.since(self.scene.now).as_millis();
        let text = format!(
            "no heartbeat from {holder}; clients that reach it may still be writing; its lease expires in {left} ms at most"
        );
        Said::new(unless_unknown(subject.outlook, Condition::Recovering), text)
    }

    /// Its primary serves: with how many standbys.
    fn served(&self, subject: &Subject, holder: &NodeId) -> Said {
        let id = subject.id;
        let (w, spec) = (
            self.scene.state.workload(id),
            &self.scene.spec.workloads[id],
        );
        let others = subject.replicas.iter().filter(|r| r.node != *holder);
        let (all, here) = match spec.loss {
            Loss::None => (others.count(), w.sync.sure.len()),
            _ => (
                others.clone().count(),
                others.filter(|r| streams(r)).count(),
            ),
        };
        let what = match spec.loss {
            Loss::None => "have every write",
            _ => "receive what it writes",
        };
        let have = format!("{here} of {all} standbys {what}");
        if here >= all {
            let text = format!("{holder} is primary; {have}");
            return Said::new(Condition::Healthy, text).left_alone(w.mode);
        }
        let have = match (here, spec.loss) {
            (0, Loss::None) => "writes are unprotected (alone = \"continue\")".into(),
            _ => have,
        };
        let text = format!(
            "{holder} is primary; {have}; missing: {}",
            missing(subject.replicas, spec.loss)
        );
        let comes = |r: &ReplicaView| is_missing(r, spec.loss) && is_coming(r);
        let condition = match subject.replicas.iter().any(comes) {
            true => Condition::Recovering,
            false => Condition::Degraded,
        };
        Said::new(condition, text).left_alone(w.mode)
    }
}

fn unless_unknown(outlook: &Outlook, condition: Condition) -> Condition {
    match outlook.writes {
        Writes::Unknown => Condition::Unknown,
        _ => condition,
    }
}

fn nobody_may(subject: &Subject, last: &NodeId, condition: Condition) -> Said {
    let id = subject.id;
    let text = format!(
        "no primary since {last}'s epoch ended, and nobody may take over; {}",
        reasons(subject.candidates)
    );
    let lossy = subject.candidates.iter().find(|c| c.may_lack.is_some());
    let or = lossy.map_or(String::new(), |c| {
        format!(
            "; or accept a loss: karst failover {id} --to {} --plan shows how much",
            c.node
        )
    });
    let next = format!("bring {last} back, or one of the standbys that has every write{or}");
    Said::with(condition, text, next)
}

fn reasons(candidates: &[Candidate]) -> String {
    let reason = |c: &Candidate| Some(format!("{}: {}", c.node, c.excluded.as_ref()?));
    let all: Vec<String> = candidates.iter().filter_map(reason).collect();
    all.join("; ")
}

/// Whether a primary misses this replica: it has not every write, or where some may be lost, it
/// receives none.
fn is_missing(replica: &ReplicaView, loss: Loss) -> bool {
    let here = match loss {
        Loss::None => replica.in_sync_set,
        _ => streams(replica),
    };
    !here && replica.state != ReplicaState::Primary
}

fn missing(replicas: &[ReplicaView], loss: Loss) -> String {
    let all: Vec<String> = replicas
        .iter()
        .filter(|r| is_missing(r, loss))
        .map(|r| format!("{} ({})", r.node, r.detail))
        .collect();
    all.join(", ")
}

fn coming(replicas: &[ReplicaView]) -> String {
    let on_their_way = replicas.iter().filter(|r| is_coming(r));
    let all: Vec<String> = on_their_way
        .map(|r| format!("{} ({})", r.node, r.detail))
        .collect();
    all.join(", ")
}

fn streams(replica: &ReplicaView) -> bool {
    replica.state == ReplicaState::Standby && replica.server.as_ref().is_some_and(|s| s.streaming)
}

/// Whether a replica is on its way into the sync set. What was reported by somebody who is not
/// heard any more is coming no nearer, and what has to leave is kept out.
fn is_coming(replica: &ReplicaView) -> bool {
    let known = replica.state != ReplicaState::Unknown && replica.state != ReplicaState::Primary;
    !replica.in_sync_set
        && known
        && replica.leaving.is_none()
        && (replica.doing.is_some() || streams(replica))
}

fn names(nodes: &[NodeId]) -> String {
    let names: Vec<&str> = nodes.iter().map(NodeId::as_str).collect();
    match names.as_slice() {
        [rest @ .., last] if !rest.is_empty() => format!("{} and {last}", rest.join(", ")),
        _ => names.join(", "),
    }
}

/// What the headline is made of.
pub(super) struct Whole<'a> {
    pub coordinator: Option<&'a NodeId>,
    pub quorum: &'a Quorum,
    pub nodes: &'a [NodeView],
    pub workloads: &'a [WorkloadView],
    pub me: &'a NodeId,
    /// The entry by which this node is none any more.
    pub removed: Option<Index>,
    /// This node is the coordinator, and so knows.
    pub leads: bool,
    /// Nodes of which one does not hear the other, and whether neither does.
    pub cut: &'a [(NodeId, NodeId, bool)],
}

/// The worst that there is, and how much more.
pub(super) fn headline(whole: &Whole) -> (Condition, String) {
    let Whole {
        coordinator,
        quorum,
        nodes,
        workloads,
        me,
        removed,
        leads,
        cut,
    } = whole;
    if let Some(since) = removed {
        let text = format!(
            "{me} is no node of this cluster any more, by entry {since}: nothing runs here. Ask another node, and stop the daemon."
        );
        return (Condition::Unknown, text);
    }
    let named = |which: &dyn Fn(&&NodeView) -> bool| {
        let chosen = nodes.iter().filter(which).map(|n| n.node.clone());
        names(&chosen.collect::<Vec<_>>())
    };
    let silent = named(&|n| n.state != NodeState::Up && (!n.maintenance || !leads));
    if !leads {
        let text = match coordinator {
            Some(coordinator) => format!(
                "Unknown: this is what {me} knows by itself; {coordinator} is the coordinator."
            ),
            None if quorum.heard >= quorum.needed => {
                format!("Unknown: no coordinator yet; {me} takes part in an election.")
            }
            None => format!(
                "No majority: {me} hears {} of {} votes and {} are needed; not heard: {silent}. Nothing is promoted.",
                quorum.heard, quorum.total, quorum.needed
            ),
        };
        return (Condition::Unknown, text);
    }
    let worst = workloads.iter().max_by_key(|w| w.condition);
    if let Some(worst) = worst.filter(|w| w.condition != Condition::Healthy) {
        let more = workloads
            .iter()
            .filter(|w| w.condition != Condition::Healthy)
            .count()
            - 1;
        let more = match more {
            0 => ".".to_string(),
            1 => ". One more workload is not healthy.".to_string(),
            more => format!(". {more} more workloads are not healthy."),
        };
        let text = format!("{}: {}{more}", worst.workload, worst.sentence);
        return (worst.condition, text);
    }
    let degraded = |text: String| (Condition::Degraded, text);
    let mute = named(&|n| n.votes > 0 && n.votes_count == Some(false));
    let fenced = named(&|n| n.fenced.is_some());
    if !silent.is_empty() {
        return degraded(format!("No heartbeat from {silent}; all workloads serve."));
    }
    if !mute.is_empty() {
        return degraded(format!(
            "No vote of {mute} counts: a node store is new there; run `karst why`. All workloads serve."
        ));
    }
    if let Some((one, other, both)) = cut.first() {
        let what = if *both {
            format!("{one} and {other} do not hear each other")
        } else {
            format!("{one} does not hear {other}")
        };
        return degraded(format!("{what}; all workloads serve."));
    }
    if !fenced.is_empty() {
        return degraded(format!(
            "{fenced} is fenced but reachable; it waits for `karst node readmit NODE`. All workloads serve."
        ));
    }
    let text = match (worst, workloads.len()) {
        (Some(only), 1) => {
            format!("All is well. {}: {}.", only.workload, only.sentence)
        }
        (_, count) => format!("All is well: {count} workloads, all standbys in place."),
    };
    (Condition::Healthy, text)
}
