//! What goes into a replica's agent, and what comes out of it.

use super::Action;
use crate::fact::OfReplica;
use crate::ids::{Epoch, Index, NodeId, OperationId};
use crate::operation::Kind;
use crate::ownstep::StepTimes;
use crate::planted::Planted;
use crate::spec::Timings;
use crate::state::WorkloadState;
use crate::time::Time;
use serde::{Deserialize, Serialize};

/// Facts of one replica that outlive a crash.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Kept {
    /// A promotion under this epoch was begun.
    pub attempted: Option<Epoch>,
    /// This epoch was surrendered, with the end of a clean stop.
    pub surrendered: Option<(Epoch, Option<u64>)>,
    /// It was held back when so much of the log was applied: after a start less of it is known at
    /// first, and says nothing of that (P1).
    #[serde(default)]
    pub held_back: Option<Index>,
}

/// What the agent wants done.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Order {
    Start {
        id: u64,
        action: Action,
    },
    Cancel {
        id: u64,
    },
    /// Store this; `Agent::on_kept` is due when it is durable.
    Keep(Kept),
    Disarm,
    /// What was promoted here is open.
    Opened {
        epoch: Epoch,
    },
    /// For the record.
    Note(OfReplica),
}

/// What the agent has to know of the cluster to take a step.
pub struct Scene<'a> {
    pub now: Time,
    pub workload: &'a WorkloadState,
    /// So much of the log has gone into that.
    pub applied: Index,
    pub operation: Option<(OperationId, Kind)>,
    pub timings: &'a Timings,
    /// This node holds nothing until it is readmitted (S6).
    pub fenced: bool,
    /// Whose data are copied here rather than the primary's (of the spec).
    pub copy_from: Option<&'a NodeId>,
    /// Where a base backup lies here (of the spec).
    pub base_backup: Option<&'a str>,
    /// What the site's own steps may take here.
    pub own_steps: StepTimes,
    pub planted: Option<Planted>,
}
