//! What has become of an operation so far, step by step.

use crate::fact::FactKind;
use crate::ids::{NodeId, OperationId};
use crate::operation::{Operation, Outcome, Phase};
use crate::time::Time;
use serde::{Deserialize, Serialize};
use std::time::Duration;

/// One operation as it is shown: derived from the log and what the coordinator saw.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Progress {
    pub id: OperationId,
    pub what: Operation,
    /// Prepared, and waiting for approval.
    pub waits: bool,
    pub steps: Vec<Step>,
    /// The node that became primary.
    pub target: Option<NodeId>,
    pub outcome: Option<Outcome>,
    pub phases: Vec<PhaseTime>,
}

/// How long a phase took.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PhaseTime {
    pub phase: Phase,
    #[serde(rename = "ms", with = "crate::time::millis")]
    #[cfg_attr(feature = "schema", schema(value_type = f64))]
    pub took: Duration,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Step {
    pub kind: FactKind,
    pub text: String,
    /// The phase that this step completes.
    pub phase: Option<Phase>,
    /// When it was completed, on the reporting node's steady clock (nanoseconds).
    pub at: Time,
}
