//! The cluster described: zones, nodes, votes, workloads, replicas and gates, and the timings.
//!
//! Parsing is done outside (the file format belongs to the service's interface); what the description means, and
//! whether it is sound, is decided here. See [`check`].

mod check;
mod timings;

pub use check::{Finding, KeyPath, Severity, check, nearest};
pub use timings::{COMMIT_ALLOWANCE, Inequality, Timings};

use crate::ids::{NodeId, WorkloadId};
use crate::votes::Votes;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::time::Duration;

/// The whole cluster. Every node has the same one; nodes with different ones refuse each other.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Spec {
    /// The cluster's name, shown on every screen. 1 to 40 letters, digits and dashes.
    pub cluster: String,
    pub timings: Timings,
    pub zones: Vec<String>,
    pub nodes: BTreeMap<NodeId, NodeSpec>,
    pub workloads: BTreeMap<WorkloadId, WorkloadSpec>,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct NodeSpec {
    pub zone: String,
    /// Weight in the quorum; 0 to 7, default 1 (0 for a member that only replicates the log).
    pub votes: u32,
    /// Votes and keeps the log, never runs a workload.
    pub witness: bool,
    /// Where other nodes reach it (UDP).
    pub peer: SocketAddr,
    /// Where its HTTP service listens with TLS.
    pub api: Option<SocketAddr>,
    /// What can cut its power, on a network of its own; without one only its lease's end proves that it is gone.
    pub power: Option<PowerSpec>,
    /// How it comes back after it was fenced (S6).
    pub readmit: Readmit,
}

/// A power device and how to reach it; the settings are the adapter's.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct PowerSpec {
    /// `redfish` or `command`.
    pub driver: String,
    pub settings: BTreeMap<String, String>,
}

/// Who takes a fenced node back.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Readmit {
    /// The cluster, once the host has booted anew and nothing runs there.
    Auto,
    /// A person.
    #[default]
    Ask,
}

/// What may be lost when a primary dies.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Loss {
    /// Nothing that a client saw acknowledged as replicated (S5). Commits wait for every member of the sync set.
    None,
    /// Up to this many bytes of write-ahead log.
    Bytes(u64),
}

/// What a `loss = "none"` primary does with an empty sync set (D3).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Alone {
    /// Writes wait until a standby is back.
    #[default]
    Block,
    /// Writes go on unprotected; no automatic failover until the set is filled again.
    Continue,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct WorkloadSpec {
    /// The kind of program: `postgres`.
    pub driver: String,
    pub loss: Loss,
    pub alone: Alone,
    /// Restart a dead primary where it died before looking elsewhere. Default false.
    pub restart: bool,
    pub replicas: BTreeMap<NodeId, ReplicaSpec>,
    /// Where clients connect for writes.
    pub gates: BTreeMap<NodeId, SocketAddr>,
    /// Settings of the driver, as the spec file gives them.
    pub settings: BTreeMap<String, String>,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ReplicaSpec {
    /// Lower is preferred among equally safe candidates; 1 to 100, default 50.
    pub rank: u32,
    /// Where the server listens for clients, gates and standbys.
    pub address: SocketAddr,
    /// The server's data directory on that node.
    pub data: String,
}

impl Spec {
    pub fn votes(&self) -> Votes {
        Votes::new(self.nodes.iter().map(|(id, node)| (id.clone(), node.votes)))
    }

    /// The longest authority lease that any live revision grants (A2); with one revision, the lease.
    pub fn longest_lease(&self) -> Duration {
        self.timings.lease
    }
}
