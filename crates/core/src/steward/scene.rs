//! What a decision may look at, and what is remembered from one to the next.

use super::leaving::Leaving;
use crate::authority::{Claim, Ledger};
use crate::consensus::Consensus;
use crate::heads::Heads;
use crate::health::Health;
use crate::ids::{Index, NodeId, OperationId, WorkloadId};
use crate::operation::Phase;
use crate::planted::Planted;
use crate::replica::{ReplicaReport, Report};
use crate::spec::{Spec, WorkloadSpec};
use crate::state::{ClusterState, Tenure, WorkloadState};
use crate::time::Time;
use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

/// The newest check-in of a node.
#[derive(Clone, Debug)]
pub struct Heard {
    pub at: Time,
    /// When it was sent, on that node's clock, and its number there.
    pub sent: Time,
    pub number: u64,
    pub report: Report,
}

impl Heard {
    /// One that came at once, from this node to itself.
    pub fn now(at: Time, report: Report) -> Self {
        Self {
            at,
            sent: at,
            number: 0,
            report,
        }
    }
}

/// What the coordinator remembers of one workload between two looks; nothing that could not be seen
/// again.
#[derive(Clone, Debug, Default)]
pub struct Notes {
    /// When the present tenure was first seen.
    pub(super) tenure_since: Option<(Tenure, Time)>,
    /// It was there before this coordinator looked for the first time: it may have lasted for long.
    pub(super) tenure_found: bool,
    /// Since when the primary does not see this standby streaming.
    pub(super) quiet_standbys: BTreeMap<NodeId, Time>,
    /// Since when this replica has been past the switch point and not streaming.
    pub(super) astray: BTreeMap<NodeId, Time>,
    /// Since when writes fail.
    pub(super) no_write_since: Option<Time>,
    /// Since when the primary's server answers nobody.
    pub(super) unanswered_since: Option<Time>,
    /// Of each member of the sync set, a position that its primary has reached and it has not, and
    /// since when.
    pub(super) owed: BTreeMap<NodeId, (u64, Time)>,
    /// Of each standby, how far it was, and since when.
    pub(super) flushed: BTreeMap<NodeId, (u64, Time)>,
    /// Since when a gate says that it does not reach the primary.
    pub(super) cut_off: BTreeMap<NodeId, Time>,
    /// When the primary was lost, as its own node saw it.
    pub lost: Option<Time>,
}

/// When the phases of the running operation ended, on this node's clock.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Stamps {
    pub operation: Option<OperationId>,
    pub at: BTreeMap<Phase, Time>,
    pub lost: Option<Time>,
    pub began: Option<Time>,
}

impl Stamps {
    pub fn reach(&mut self, phase: Phase, now: Time) {
        self.at.entry(phase).or_insert(now);
    }

    /// Durations from one phase's end to the next; a phase that ended earlier than the one before
    /// took no time of its own.
    pub fn durations(&self) -> Vec<(Phase, Duration)> {
        let Some(mut from) = self.lost.or(self.began) else {
            return Vec::new();
        };
        let mut list = Vec::new();
        for phase in Phase::ALL {
            if let Some(at) = self.at.get(&phase) {
                list.push((phase, at.since(from)));
                from = from.max(*at);
            }
        }
        list
    }
}

/// All that a decision may look at.
pub struct Scene<'a> {
    pub now: Time,
    /// Seconds since the Unix epoch, where this node was told; for people's times, and nothing that
    /// safety rests on.
    pub wall: Option<u64>,
    pub me: &'a NodeId,
    pub spec: &'a Spec,
    pub state: &'a ClusterState,
    pub reports: &'a BTreeMap<NodeId, Heard>,
    pub health: &'a Health,
    pub ledger: &'a Ledger,
    pub elected_at: Time,
    /// Since when this node has not stood still itself.
    pub awake_since: Time,
    /// Fenced nodes whose power was read as off after this entry was committed.
    pub off: &'a BTreeMap<NodeId, Index>,
    /// Nodes whose power was read as on after that was asked for by this entry.
    pub on: &'a BTreeMap<NodeId, Index>,
    /// How far each primary was when it was last heard.
    pub heads: &'a Heads,
    /// What people want to be gone.
    pub leaving: Leaving<'a>,
    /// Which members have everything, and whose stores count.
    pub consensus: &'a Consensus,
    /// Since when this coordinator has had the spec in force.
    pub shaped_at: Time,
    /// The key that each node has shown to this one.
    pub shown: &'a BTreeMap<NodeId, String>,
    pub planted: Option<Planted>,
}

impl Scene<'_> {
    /// Whether a rule is broken on purpose.
    pub(crate) fn breaks(&self, rule: Planted) -> bool {
        self.planted == Some(rule)
    }

    /// Whether a node can be counted on right now.
    pub fn is_up(&self, node: &NodeId) -> bool {
        self.reports_in(node) && (node == self.me || !self.health.is_suspected(node, self.now))
    }

    /// Whether its check-ins arrive, directly or round a broken link (A4).
    pub fn reports_in(&self, node: &NodeId) -> bool {
        let fresh = |h: &Heard| self.now.since(h.at) < self.spec.timings.suspicion_ceiling;
        self.reports.get(node).is_some_and(fresh)
    }

    /// When no lease of the claim can be valid any more, by this coordinator's own count.
    pub(crate) fn lease_over_at(&self, claim: &Claim) -> Time {
        if self.breaks(Planted::SkipLeaseWait) {
            return Time::ZERO;
        }
        self.ledger
            .over_at(claim, self.elected_at, self.longest_lease())
    }

    /// The longest lease that somebody may still have been granted (A2).
    pub(crate) fn longest_lease(&self) -> Duration {
        if self.breaks(Planted::RetireAtOnce) {
            return self.spec.timings.lease;
        }
        let charter = &self.state.charter;
        charter.longest(&self.spec.timings, |t| t.lease)
    }

    /// Which ways in clients of a workload lose, if these nodes rest beside those that rest already:
    /// its gates, or its floating address (G5).
    pub(crate) fn ways_in_lost(
        &self,
        id: &WorkloadId,
        spec: &WorkloadSpec,
        nodes: &BTreeSet<NodeId>,
    ) -> Option<String> {
        let rests = |n: &NodeId| nodes.contains(n) || self.leaving.node(n);
        let gates: Vec<&str> = spec.gates.keys().map(NodeId::as_str).collect();
        let listed = gates.join(", ");
        let gone = !gates.is_empty() && spec.gates.keys().all(rests);
        let touched = spec.gates.keys().any(|n| nodes.contains(n));
        if gone && touched {
            let text = format!("clients of {id} have no way in: its gates are on {listed} alone");
            return Some(text);
        }
        let address = spec.address.as_ref()?;
        let holders = spec.replicas.keys().chain(spec.gates.keys());
        let holders: BTreeSet<&NodeId> = holders.filter(|n| spec.may_hold_address(n)).collect();
        let touched = holders.iter().any(|n| nodes.contains(*n));
        let gone = !holders.is_empty() && holders.iter().all(|n| rests(n));
        (gone && touched).then(|| {
            let names: Vec<&str> = holders.iter().map(|n| n.as_str()).collect();
            format!(
                "clients of {id} do not reach {}: {} alone may have that address",
                address.listed(),
                names.join(", ")
            )
        })
    }

    pub fn replica(&self, node: &NodeId, workload: &WorkloadId) -> Option<&ReplicaReport> {
        self.reports.get(node)?.report.parts.replicas.get(workload)
    }
}

/// One workload under decision.
pub(crate) struct Desk<'a> {
    pub scene: &'a Scene<'a>,
    pub id: &'a WorkloadId,
    pub spec: &'a WorkloadSpec,
    pub w: &'a WorkloadState,
}
