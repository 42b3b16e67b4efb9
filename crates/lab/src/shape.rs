//! What a lab is asked to be.

use clap::Args;
use serde::{Deserialize, Serialize};

/// What differs from the demo's lab.
#[derive(Args, Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Shape {
    /// Brisk timings instead of the default ones
    #[arg(long)]
    pub brisk: bool,
    /// The floating address follows the primary itself, and not a gate
    #[arg(long)]
    pub address_on_primary: bool,
    /// A fifth host, and nine more workloads on three hosts each, without endpoints
    #[arg(long)]
    pub fleet: bool,
    /// A fifth host, on which nothing is
    #[arg(long)]
    #[serde(default)]
    pub fifth: bool,
    /// A second workload, of numbered lines, which is not PostgreSQL's
    #[arg(long)]
    #[serde(default)]
    pub lines: bool,
    /// A name server, and the workload's name in it
    #[arg(long)]
    #[serde(default)]
    pub name: bool,
    /// Nothing of Karst is on the hosts yet: no spec, no certificates, no daemon
    #[arg(long)]
    #[serde(default)]
    pub empty: bool,
    /// A setting of every server, such as `wal_keep_size=8MB`
    #[arg(long = "set", value_name = "NAME=VALUE")]
    pub settings: Vec<String>,
    /// Each process within the bounds of its packaged unit: mounts, directories, rights
    #[arg(long)]
    #[serde(default)]
    pub units: bool,
    /// So many descriptors for each daemon, and no more
    #[arg(long)]
    #[serde(default)]
    pub descriptors: Option<u32>,
}
