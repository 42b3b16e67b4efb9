//! What a person is shown: one sentence, then the evidence.

use crate::command::Standing;
use crate::ids::{Epoch, Index, NodeId, OperationId, Term, WorkloadId};
use crate::operation::Mode;
use crate::progress::Progress;
use crate::replica::{GateReport, ReplicaReport};
use crate::spec::Finding;
use crate::state::{SyncSet, Tenure};
use crate::steward::candidates::Candidate;
use crate::time::Time;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fmt;
use std::net::SocketAddr;

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
    /// Votes of the nodes that are heard now, the own included; not those that are known not to
    /// count.
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
    /// Whether they count: not where its node store is new, or was put back. None while that is not
    /// known.
    pub votes_count: Option<bool>,
    pub witness: bool,
    pub state: NodeState,
    pub silent_ms: u64,
    /// Nodes of which nothing arrives there, as it says itself. One way only, unless they say the
    /// same of it.
    pub does_not_hear: Vec<NodeId>,
    /// Of whose beats it misses some, in per cent; not what a few lost packets amount to.
    pub misses: BTreeMap<NodeId, u8>,
    /// Why it may hold nothing until it is readmitted, if so (S6).
    pub fenced: Option<String>,
    /// What its power device said last: `on`, `off`, or why that is not known; none without a
    /// device.
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
