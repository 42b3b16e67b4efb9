//! The deadman: a second small process on each host that ends a primary's processes before its lease does (SAFETY C2).
//!
//! The daemon hands it deadlines; a daemon that is killed, stopped or hung hands it none, and the deadman acts at the
//! deadline minus the kill bound. Deadlines are readings of CLOCK_BOOTTIME. They are kept in a file under the runtime
//! directory, so that a deadman that is started again goes on counting (C6). With each deadline it opens the workload's
//! port until then, and nobody else does (C3).

pub mod client;
pub mod server;

use karst_core::{Time, WorkloadId};
use serde::{Deserialize, Serialize};
use std::path::PathBuf;

/// From the daemon, one JSON line each.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Order {
    Arm { workload: WorkloadId, deadline: Time },
    Disarm { workload: WorkloadId },
}

/// To the daemon: what it counts down for this workload now. Sent for every workload on connection, and after each order.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Counting {
    pub workload: WorkloadId,
    pub deadline: Option<Time>,
    /// Why no packet guard is in force although a primary is counted down (C3).
    pub unguarded: Option<String>,
}

/// What the deadman watches: the data directory names the processes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Watched {
    pub workload: WorkloadId,
    pub data: PathBuf,
    /// Where its clients and standbys connect.
    pub port: u16,
}
