//! A safety point: a place in a workload's writes that has a name, and a standby that is held back at
//! it, so that what was there before risky work is there after it.
//!
//! The standby's server stops first, then the primary writes the name into its log, and then the
//! standby goes on up to there. So it has nothing past it, and needs nobody to stay as it is.

use crate::ids::{Epoch, NodeId, OperationId, WorkloadId};
use crate::position::Position;
use serde::{Deserialize, Serialize};

/// What somebody wants to be kept.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct SafetyPoint {
    pub workload: WorkloadId,
    /// What people call it; it is in the log of the workload's program as well.
    pub name: String,
    /// The standby that is held back.
    pub node: NodeId,
    /// A person accepts that no other standby has every write meanwhile.
    pub bare: bool,
}

impl SafetyPoint {
    pub const LONGEST_NAME: usize = 40;

    /// Lower-case letters, digits and `-`: it becomes a part of a program's settings.
    pub fn is_name(name: &str) -> bool {
        let fits = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-';
        (1..=Self::LONGEST_NAME).contains(&name.len()) && name.chars().all(fits)
    }
}

/// A workload is to go on from its safety point, as if nothing had been written since.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct GoingBack {
    pub workload: WorkloadId,
    /// The intent that keeps the point.
    pub point: OperationId,
    pub name: String,
    pub node: NodeId,
}

/// A standby that is held back, as the log has it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct HeldBack {
    /// The intent that it is held back for.
    pub intent: OperationId,
    pub name: String,
    pub node: NodeId,
    pub stage: Stage,
}

/// How far a safety point is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "stage")]
pub enum Stage {
    /// The standby's server stops.
    Stops,
    /// The primary writes the point into its log.
    Marks,
    /// The standby goes up to the point, and stays there.
    Stands(Mark),
}

/// The point in the log of the workload's program.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Mark {
    /// Its name there, which no other point has.
    pub label: String,
    /// Of the primary that wrote it.
    pub epoch: Epoch,
    pub at: Position,
}

impl HeldBack {
    pub fn mark(&self) -> Option<&Mark> {
        match &self.stage {
            Stage::Stands(mark) => Some(mark),
            Stage::Stops | Stage::Marks => None,
        }
    }

    /// What the point is called in the log under an epoch: written anew by another primary it is
    /// another point.
    pub fn label(&self, epoch: Epoch) -> String {
        format!("{}.{}.{epoch}", self.name, self.intent.0)
    }

    fn is_same(&self, other: &Self) -> bool {
        (self.intent, &self.node) == (other.intent, &other.node)
    }

    /// Whether it may be that next: one stage after the other.
    pub(crate) fn may_become(&self, next: &Self) -> bool {
        let follows = matches!(
            (&self.stage, &next.stage),
            (Stage::Stops, Stage::Marks) | (Stage::Marks, Stage::Stands(_))
        );
        self.is_same(next) && follows
    }
}
