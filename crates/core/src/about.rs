//! What a node says of its host and of itself, for people. Nothing is decided from it.

use crate::ids::WorkloadId;
use crate::spec::Finding;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct About {
    /// Of karstd.
    pub version: String,
    /// Of the servers here, as each says it.
    pub servers: BTreeMap<WorkloadId, String>,
    /// Why the host has no packet guard, if so.
    pub unguarded: Option<String>,
    /// The watchdog device that the deadman feeds.
    pub watchdog: Option<String>,
    pub rooms: Vec<Room>,
    /// When the node's certificate ends, in seconds since the Unix epoch.
    pub certificate_until: Option<u64>,
    pub authorities: Authorities,
    /// When this run of the daemon began, in seconds since the Unix epoch.
    pub since: u64,
    /// What is wrong on its host, as far as it alone can tell.
    pub findings: Vec<Finding>,
}

/// CAs, each as the SHA-256 of its certificate in hexadecimal digits.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Authorities {
    /// Those that the node believes.
    pub trusted: Vec<String>,
    /// Whose certificates it shows, as a node and as a server; none where that cannot be told.
    pub signed_by: Vec<String>,
}

/// How much room there is on the volume of a directory.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Room {
    /// What the directory is for: `node store`, `data of sailings`.
    pub of: String,
    pub path: String,
    /// Bytes, of which a little less than this may be free.
    pub free: u64,
    pub total: u64,
}

/// A volume with less than a twentieth free is about to be full.
const NEARLY_FULL: u64 = 20;

impl Room {
    pub fn is_nearly_full(&self) -> bool {
        self.free < self.total / NEARLY_FULL
    }
}

impl About {
    /// No honest node has more rooms, or findings, or CAs.
    pub const MOST: usize = 1_000;

    /// Whether it says no more than a node can have to say.
    pub fn fits(&self) -> bool {
        let Authorities { trusted, signed_by } = &self.authorities;
        let counts = [
            self.rooms.len(),
            self.findings.len(),
            trusted.len(),
            signed_by.len(),
        ];
        counts.iter().all(|count| *count <= Self::MOST)
    }
}
