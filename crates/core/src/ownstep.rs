//! Own steps: programs of the site, run at named points of what the cluster does.
//!
//! Nothing of them is decided on but this: one that runs before something, and may keep it from being
//! done, is waited for; everything else goes on as if there were none.

use crate::ids::{Epoch, Index, NodeId, OperationId, WorkloadId};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use std::time::Duration;

/// When a step runs, and where.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Point {
    /// On the primary's node, before its checkpoint.
    BeforeSwitchover,
    /// On the new primary's node, once it is open.
    AfterSwitchover,
    /// On the node that is to be primary, before its server is promoted: clients wait for it.
    BeforePromotion,
    /// On the new primary's node, once it is open, however it came to that.
    AfterPromotion,
    /// On the coordinator's node, before a host's power is cut: clients may wait for it.
    BeforeFence,
    /// On the coordinator's node, once the power was read as off.
    AfterFence,
    /// On the replica's node, before its data are replaced by a copy.
    BeforeClone,
    /// On the replica's node, once the copy is complete.
    AfterClone,
    /// On the node itself, before the first primary leaves it.
    BeforeMaintenance,
    /// On the node itself, once it takes part again.
    AfterMaintenance,
}

impl Point {
    pub const ALL: [Point; 10] = [
        Point::BeforeSwitchover,
        Point::AfterSwitchover,
        Point::BeforePromotion,
        Point::AfterPromotion,
        Point::BeforeFence,
        Point::AfterFence,
        Point::BeforeClone,
        Point::AfterClone,
        Point::BeforeMaintenance,
        Point::AfterMaintenance,
    ];

    pub fn word(self) -> &'static str {
        match self {
            Point::BeforeSwitchover => "before-switchover",
            Point::AfterSwitchover => "after-switchover",
            Point::BeforePromotion => "before-promotion",
            Point::AfterPromotion => "after-promotion",
            Point::BeforeFence => "before-fence",
            Point::AfterFence => "after-fence",
            Point::BeforeClone => "before-clone",
            Point::AfterClone => "after-clone",
            Point::BeforeMaintenance => "before-maintenance",
            Point::AfterMaintenance => "after-maintenance",
        }
    }

    /// Whether it is about a workload, and not about a node.
    pub fn is_of_workload(self) -> bool {
        !matches!(
            self,
            Point::BeforeFence
                | Point::AfterFence
                | Point::BeforeMaintenance
                | Point::AfterMaintenance
        )
    }

    /// Whether a step that fails may keep it from being done. Nothing keeps a host from being fenced.
    pub fn may_stop(self) -> bool {
        matches!(
            self,
            Point::BeforeSwitchover
                | Point::BeforePromotion
                | Point::BeforeClone
                | Point::BeforeMaintenance
        )
    }

    /// Whether clients may wait while it runs.
    pub fn delays_clients(self) -> bool {
        matches!(self, Point::BeforePromotion | Point::BeforeFence)
    }
}

/// What follows where a step fails.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum IfFails {
    /// It is on record, and everything goes on.
    #[default]
    GoOn,
    /// What it ran before is not done.
    Stop,
}

/// A step, as the spec has it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct OwnStep {
    pub at: Point,
    /// The name of a file in the hosts' directory of steps.
    pub program: String,
    pub args: Vec<String>,
    /// The user that it runs as; none: the daemon's own.
    pub user: Option<String>,
    /// It is ended after so long, and has failed; 100 ms to 1 h, default 10 s.
    pub limit: Duration,
    pub if_fails: IfFails,
    /// The workloads that it is about; none: all.
    pub workloads: BTreeSet<WorkloadId>,
    /// The nodes that it runs on; none: all.
    pub nodes: BTreeSet<NodeId>,
}

impl OwnStep {
    pub fn runs(&self, at: Point, workload: Option<&WorkloadId>, node: &NodeId) -> bool {
        let of_workload = |id| self.workloads.is_empty() || self.workloads.contains(id);
        self.at == at && workload.is_none_or(of_workload) && self.is_of(node)
    }

    pub fn is_of(&self, node: &NodeId) -> bool {
        self.nodes.is_empty() || self.nodes.contains(node)
    }

    /// Whether what it ran before is not to be done.
    pub fn stops(&self, ended: &Ended) -> bool {
        !ended.is_well() && self.if_fails == IfFails::Stop
    }
}

/// What a step runs for.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Occasion {
    pub at: Point,
    pub workload: Option<WorkloadId>,
    /// Whom it is about: who is to be primary, is one, is copied anew, fenced or rests.
    pub node: NodeId,
    /// The operation or the intent that it belongs to, and the workload's epoch then.
    pub operation: Option<OperationId>,
    pub epoch: Option<Epoch>,
    /// The fence that it is about.
    pub fence: Option<Index>,
}

impl Occasion {
    pub fn of(at: Point, workload: Option<WorkloadId>, node: NodeId) -> Self {
        Self {
            at,
            workload,
            node,
            operation: None,
            epoch: None,
            fence: None,
        }
    }
}

/// How a step ended.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case", tag = "how", content = "what")]
pub enum Ended {
    Exit(i32),
    Signal(i32),
    /// It was not over within its limit, and was ended.
    Late,
    /// It could not be begun.
    NotBegun(String),
}

impl Ended {
    pub fn is_well(&self) -> bool {
        *self == Ended::Exit(0)
    }
}

impl std::fmt::Display for Ended {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Ended::Exit(0) => f.write_str("done"),
            Ended::Exit(code) => write!(f, "it ended with code {code}"),
            Ended::Signal(number) => write!(f, "it was ended by signal {number}"),
            Ended::Late => f.write_str("it was not over within its limit"),
            Ended::NotBegun(why) => write!(f, "it could not be begun: {why}"),
        }
    }
}

/// A step that has run.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Ran {
    pub step: String,
    pub took: Duration,
    pub ended: Ended,
    /// The end of what it wrote, of [`Ran::MOST_OUTPUT`] bytes at most.
    pub output: String,
}

impl Ran {
    pub const MOST_OUTPUT: usize = 4_096;
}

/// What this node's own steps before it rests came to.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Prepared {
    pub intent: OperationId,
    /// Why it may not rest yet: each step that failed and is to keep it from that.
    pub failed: Vec<String>,
}

impl Prepared {
    /// So many failures at most are told, of so many bytes each.
    pub const MOST: usize = 20;
    pub const LONGEST: usize = 1_000;

    pub(crate) fn nothing_failed(intent: OperationId) -> Self {
        Self {
            intent,
            failed: Vec::new(),
        }
    }
}

/// Of a reason as much as others take: it goes to other nodes, and from there onto screens.
pub(crate) fn bounded(why: &str) -> String {
    let plain = why.chars().map(|c| if c.is_control() { ' ' } else { c });
    plain.take(Prepared::LONGEST / 4).collect()
}

/// What a node's own steps may take in all, beside the actions that they run before.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct StepTimes {
    pub switchover: Duration,
    pub promotion: Duration,
    pub clone: Duration,
}
