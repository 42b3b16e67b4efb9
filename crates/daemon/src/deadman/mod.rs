//! The deadman: a second small process on each host that ends a primary's processes, and takes away
//! a floating address, before their lease ends (SAFETY C2).
//!
//! The daemon hands it deadlines; a daemon that is killed, stopped or hung hands it none, and the
//! deadman acts at the deadline minus the kill bound. Deadlines are readings of CLOCK_BOOTTIME.
//! They are kept in a file under the runtime directory, so that a deadman that is started again
//! goes on counting (C6). With each deadline it opens the workload's port until then, and nobody
//! else does (C3).

pub mod client;
pub mod server;
pub mod watchdog;

use karst_adapters::process::Processes;
use karst_core::Input;
use karst_core::authority::{Claim, Deadline};
use serde::{Deserialize, Serialize};
use std::net::IpAddr;
use std::path::{Path, PathBuf};

/// Where it listens: in a directory that only its own user may enter, as whoever gives it orders
/// decides what is ended.
pub fn socket(runtime: &Path) -> PathBuf {
    runtime.join("deadman").join("orders.sock")
}

/// From the daemon, one JSON line each.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Order {
    Arm { claim: Claim, deadline: Deadline },
    Disarm { claim: Claim },
}

/// To the daemon: what it counts down for this claim now. Sent for every claim on connection, and
/// after each order.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Counting {
    pub claim: Claim,
    pub deadline: Option<Deadline>,
    /// Why no packet guard is in force although a primary is counted down (C3).
    pub unguarded: Option<String>,
}

impl From<Counting> for Input {
    fn from(
        Counting {
            claim,
            deadline,
            unguarded,
        }: Counting,
    ) -> Self {
        Input::Armed {
            claim,
            deadline,
            unguarded,
        }
    }
}

/// What the deadman watches.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Watched {
    pub claim: Claim,
    pub what: What,
}

#[derive(Clone, Debug, PartialEq, Eq)]
pub enum What {
    /// Clients and standbys connect to the port.
    Server { processes: Processes, port: u16 },
    /// Floating addresses, which are taken away.
    Addresses(Vec<IpAddr>),
}
