//! The ways in which a primary is lost: how each happens, is mended, and how long it may take at
//! the worst.

use crate::cluster::Lab;
use crate::fault::{self, Fault};
use crate::find;
use crate::layout::WORKLOAD;
use crate::steal::boot_nanos;
use anyhow::{Context, Result};
use karst_api::core::outage::{Case, WorstCase};
use rustix::process::Signal;
use std::time::Duration;

/// How a primary is lost.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Loss {
    /// Its first process is killed, by number.
    Server,
    /// Its host loses power, and the power controller says so.
    Power,
    /// Its host loses power, and nobody says so.
    PowerAlone,
    /// Its host is cut off from its peers, and nobody can cut its power.
    Peers,
}

impl Loss {
    pub fn name(self) -> &'static str {
        match self {
            Loss::Server => "kill-server",
            Loss::Power => "power-off",
            Loss::PowerAlone => "power-off, unconfirmed",
            Loss::Peers => "cut-off",
        }
    }

    /// Does it; when it was begun, and what was done, in words. To find what is to be killed is not
    /// part of the loss.
    pub(super) fn happen(self, lab: &Lab, host: &str) -> Result<(u64, String)> {
        let (host, peer) = (host.to_string(), Some(fault::Network::Peer));
        let server = if self == Loss::Server {
            Some(find::postmaster(&lab.layout, &host)?)
        } else {
            None
        };
        let at = boot_nanos();
        let done = match self {
            Loss::Server => {
                let pid = server.context("a server to kill")?;
                find::signal(pid, Signal::KILL)?;
                Ok(format!(
                    "killed process {pid}, the first of {WORKLOAD}'s server on {host}"
                ))
            }
            Loss::Power | Loss::PowerAlone => fault::apply(&lab.layout, &Fault::PowerOff { host }),
            Loss::Peers => fault::apply(
                &lab.layout,
                &Fault::Cut {
                    host,
                    network: peer,
                },
            ),
        };
        Ok((at, done?))
    }

    pub(super) fn mend(self, lab: &Lab, host: &str) -> Result<()> {
        match self {
            Loss::Server => Ok(()),
            Loss::Power | Loss::PowerAlone => {
                fault::apply(&lab.layout, &Fault::PowerOn { host: host.into() }).map(drop)
            }
            Loss::Peers => fault::apply(&lab.layout, &Fault::Heal).map(drop),
        }
    }

    /// The longest outage that the timings allow, the coordinator lost with the primary included;
    /// as the spec check prints.
    pub fn worst_case(self, all: &[WorstCase]) -> Duration {
        let wanted: &[Case] = match self {
            Loss::Server => &[Case::ServerLost],
            Loss::Power => &[Case::HostLostAndOff, Case::BothLostAndOff],
            Loss::PowerAlone | Loss::Peers => &[Case::HostLost, Case::BothLost],
        };
        let cases = all.iter().filter(|c| wanted.contains(&c.kind));
        cases.map(WorstCase::total).max().unwrap_or_default()
    }
}
