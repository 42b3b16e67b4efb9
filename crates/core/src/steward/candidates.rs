//! Who may become the next primary, and why the others may not.
//!
//! Order of the questions: may it, is it safe, then the newest position, then the spec's rank.

use super::Scene;
use crate::ids::{Lsn, NodeId, WorkloadId};
use crate::node::Planted;
use crate::replica::Role;
use crate::spec::{Loss, WorkloadSpec};
use crate::state::{Tenure, WorkloadState};
use serde::{Deserialize, Serialize};
use std::cmp::Reverse;

/// One replica other than the present primary, judged.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Candidate {
    pub node: NodeId,
    /// Why it may not take over; none if it may.
    pub excluded: Option<String>,
    /// Its answer may still change in a moment: its final position is not reported yet.
    pub pending: bool,
    pub position: Option<Lsn>,
    pub rank: u32,
    /// A member of the sync set has every acknowledged write.
    pub in_sync_set: bool,
    /// Where nothing else is against it: how many acknowledged bytes it may lack, as far as is known.
    pub may_lack: Option<MayLack>,
}

/// What a replica may lack of what the last primary acknowledged.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum MayLack {
    /// From its position to the last primary's last known one.
    Bytes(u64),
    /// The last primary's position was not heard.
    Unknown,
}

impl MayLack {
    /// The number to compare with what somebody accepts to lose; unknown is more than any size.
    pub fn bytes(self) -> u64 {
        match self {
            MayLack::Bytes(bytes) => bytes,
            MayLack::Unknown => u64::MAX,
        }
    }
}

impl Candidate {
    pub(super) fn preference(&self) -> (Option<Lsn>, Reverse<u32>, Reverse<NodeId>) {
        (self.position, Reverse(self.rank), Reverse(self.node.clone()))
    }

    /// Whether it may take over if so many acknowledged bytes may be lost (forced failover).
    pub fn may_with_loss(&self, accepted: u64) -> bool {
        self.excluded.is_none() || self.may_lack.is_some_and(|l| l.bytes() <= accepted)
    }

    pub(super) fn reason(&self) -> String {
        let position = self.position.map_or(String::new(), |p| format!(", position {p}"));
        let sync = if self.in_sync_set { "in the sync set" } else { "within the allowed loss" };
        format!("{sync}{position}, rank {}", self.rank)
    }
}

/// Every replica except the holder (or, after the end, the last holder), with the verdict of each.
pub fn list(scene: &Scene, id: &WorkloadId, spec: &WorkloadSpec) -> Vec<Candidate> {
    let w = scene.state.workload(id);
    let ended = matches!(w.tenure, Tenure::Ended { .. });
    let out = match &w.tenure {
        Tenure::Ended { last, .. } => Some(last),
        _ => w.holder(),
    };
    let judge = |node: &NodeId| {
        let report = scene.replica(node, id);
        let settled = report.and_then(|r| r.settled).filter(|(e, _, _)| *e == w.epoch);
        let position = match (ended, settled) {
            (true, Some((_, _, position))) => Some(position),
            (true, None) => None,
            (false, _) => report.and_then(|r| r.seen.as_ref()).map(|o| o.position),
        };
        let in_sync_set = w.sync.sure.contains(node);
        let (excluded, pending, may_lack) = match refusal(scene, id, spec, w, node, ended) {
            Err(Refusal::Pending(why)) => (Some(why), true, None),
            Err(Refusal::No(why)) => (Some(why), false, None),
            Err(Refusal::Lacks(why, lack)) => (Some(why), false, Some(lack)),
            Ok(()) => (None, false, None),
        };
        let rank = spec.replicas[node].rank;
        Candidate { node: node.clone(), excluded, pending, position, rank, in_sync_set, may_lack }
    };
    spec.replicas.keys().filter(|n| Some(*n) != out).map(judge).collect()
}

enum Refusal {
    Pending(String),
    No(String),
    /// Only what it may lack is against it: a person may accept that.
    Lacks(String, MayLack),
}

fn refusal(
    scene: &Scene, id: &WorkloadId, spec: &WorkloadSpec, w: &WorkloadState, node: &NodeId, ended: bool,
) -> Result<(), Refusal> {
    let no = |why: String| Err(Refusal::No(why));
    let Some(opened) = &w.opened else { return no("the workload was never opened".into()) };
    if scene.state.fenced(node).is_some() {
        return no("it is fenced (S6): readmit it first".into());
    }
    if let Some(why) = w.unsound(node) {
        return no(format!("its data must be rewound or cloned first: {why}"));
    }
    if !scene.is_up(node) {
        return no("its node is not heard".into());
    }
    let Some(report) = scene.replica(node, id) else { return no("it has not reported yet".into()) };
    if report.suspect {
        return no("a promotion of it was never completed (D5)".into());
    }
    let Some(seen) = &report.seen else { return no("its server was not probed yet".into()) };
    if !seen.runs {
        // A standby that is starting may still make it.
        let why = "its server does not run".to_string();
        return Err(if report.doing.is_some() { Refusal::Pending(why) } else { Refusal::No(why) });
    }
    if seen.role.is_none() && w.sync.sure.contains(node) {
        // One look without an answer is no verdict, and it may be ahead of everybody else.
        return Err(Refusal::Pending("its server does not answer".into()));
    }
    if seen.role != Some(Role::Standby) {
        return no("its server does not answer as a standby".into());
    }
    let (timeline, position) = if ended {
        match report.settled.filter(|(e, _, _)| *e == w.epoch) {
            Some((_, timeline, position)) => (timeline, position),
            None => return Err(Refusal::Pending("its final position is not known yet".into())),
        }
    } else {
        (seen.timeline, seen.position)
    };
    // D6: its history must contain the point where the last epoch began.
    let contains = if timeline == opened.timeline { position >= opened.switch } else { position == opened.switch };
    if !contains {
        return no(format!(
            "its history (timeline {timeline}, up to {position}) does not contain {}, where epoch {} began (D6)",
            opened.switch, opened.epoch
        ));
    }
    let last = scene.replica(&opened.holder, id).and_then(|r| r.seen.as_ref()).map(|o| o.position);
    let behind = last.map(|l| l.0.saturating_sub(position.0));
    match (spec.loss, behind) {
        (Loss::None, _) if !w.sync.sure.contains(node) && scene.planted != Some(Planted::PromoteLaggard) => {
            let lack = behind.map_or(MayLack::Unknown, MayLack::Bytes);
            Err(Refusal::Lacks("not in the sync set: it may lack acknowledged writes (S5)".into(), lack))
        }
        (Loss::Bytes(allowed), Some(behind)) if behind > allowed => {
            Err(Refusal::Lacks(format!("{behind} bytes behind; {allowed} may be lost"), MayLack::Bytes(behind)))
        }
        _ => Ok(()),
    }
}
