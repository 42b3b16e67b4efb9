//! The deadman: a second small process on each host that ends a primary's processes, and takes away
//! a floating address, before their lease ends (SAFETY C2).
//!
//! The daemon hands it deadlines; a daemon that is killed, stopped or hung hands it none, and the
//! deadman acts at the deadline minus the kill bound. Deadlines are readings of CLOCK_BOOTTIME.
//! They are kept in a file under the runtime directory, so that a deadman that is started again
//! goes on counting (C6). With each deadline it opens the workload's port until then, and nobody
//! else does (C3).
//!
//! It reads no spec: what it watches the daemon tells it, and it keeps that list where a reboot
//! leaves it, so that whatever runs of it after one is ended before a daemon joins (C6).

pub mod client;
mod list;
pub mod server;
pub mod watchdog;

use karst_core::Input;
use karst_core::authority::{Claim, Deadline};
use serde::{Deserialize, Serialize};
use std::net::IpAddr;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// Where it listens: in a directory that only its own user may enter, as whoever gives it orders
/// decides what is ended.
pub fn socket(runtime: &Path) -> PathBuf {
    runtime.join("deadman").join("orders.sock")
}

/// What the deadman says of its host: nothing that it needs itself.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct OfHost {
    /// The device that it feeds.
    pub watchdog: Option<String>,
    /// Why there is no packet guard here, if so (C3).
    pub unguarded: Option<String>,
}

/// Where that is.
pub fn host_file(runtime: &Path) -> PathBuf {
    runtime.join("deadman").join("host.json")
}

/// What was said there. Where nothing was, or it cannot be read, nobody knows of a guard.
pub fn of_host(runtime: &Path) -> OfHost {
    let path = host_file(runtime);
    let said = std::fs::read(&path).map_err(|error| error.to_string());
    let said = said.and_then(|json| serde_json::from_slice(&json).map_err(|e| e.to_string()));
    said.unwrap_or_else(|why| OfHost {
        watchdog: None,
        unguarded: Some(format!(
            "not known, as the deadman has not said so in {}: {why}",
            path.display()
        )),
    })
}

/// From the daemon, one JSON line each.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Order {
    /// From here on this is watched. Said of everything on each connection, before anything else.
    Watch {
        claim: Claim,
        what: What,
        /// How far ahead a deadline may lie: a lease counts from when it was asked for.
        longest: Duration,
    },
    /// Nothing of it is left on this host.
    Unwatch {
        claim: Claim,
    },
    Arm {
        claim: Claim,
        deadline: Deadline,
    },
    Disarm {
        claim: Claim,
    },
}

/// To the daemon: what it counts down for this claim now. Sent for every claim on connection, and
/// after each order; of what is watched newly, once that is on disk.
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

/// What is ended, or taken away.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum What {
    /// Whatever runs in this data directory; clients and standbys connect to the port.
    Server { data: String, port: u16 },
    /// Floating addresses, which are taken away.
    Addresses(Vec<IpAddr>),
}

#[cfg(test)]
mod tests {
    use super::{host_file, of_host};

    #[test]
    fn a_guard_that_nobody_spoke_of_is_none() {
        let dir = tempfile::tempdir().unwrap();
        assert!(of_host(dir.path()).unguarded.is_some(), "no word");
        let file = host_file(dir.path());
        std::fs::create_dir_all(file.parent().unwrap()).unwrap();
        std::fs::write(&file, "{\"watch").unwrap();
        assert!(of_host(dir.path()).unguarded.is_some(), "half a word");
        std::fs::write(&file, "{\"watchdog\": null, \"unguarded\": null}").unwrap();
        assert_eq!(of_host(dir.path()).unguarded, None);
    }
}
