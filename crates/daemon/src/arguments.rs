//! What `karstd` is told when it is started.

use crate::allowed::Allowed;
use clap::{Args, Parser, Subcommand};
use karst_adapters::Steps;
use karst_adapters::process::{Cgroup, Processes, find_hierarchy};
use karst_core::node::SNAPSHOT_AFTER;
use karst_core::{NodeId, WorkloadId};
use std::path::{Path, PathBuf};

#[derive(Parser)]
#[command(
    name = "karstd",
    version,
    about = "Keeps replicated programs available: one daemon on every host"
)]
pub struct Cli {
    #[command(subcommand)]
    pub command: Command,
}

#[derive(Subcommand)]
pub enum Command {
    /// Run the daemon
    Run(Run),
    /// Run the deadman, which ends primaries whose daemon does not renew their lease
    Deadman(Deadman),
    /// Look at what this host needs for it, and print that as JSON (`karst doctor` shows it)
    Examine(Run),
    /// Print the OpenAPI document of the HTTP interface
    Document,
}

#[derive(Args, Clone)]
pub struct Common {
    /// What must not be lost: the node store, and what the deadman watches
    #[arg(long, default_value = "/var/lib/karst")]
    pub state: PathBuf,
    /// Sockets and what may be lost at a reboot
    #[arg(long, default_value = "/run/karst")]
    pub runtime: PathBuf,
    /// A directory of the cgroup v2 hierarchy for the workloads' servers, one cgroup each, the same
    /// for daemon and deadman [default: `karst` at its root, where there is such a hierarchy]
    #[arg(long)]
    pub cgroup: Option<PathBuf>,
    /// Logs as JSON lines
    #[arg(long)]
    pub json_logs: bool,
}

impl Common {
    /// All processes of a workload's server on this host (C1).
    pub fn processes(&self, workload: &WorkloadId, data: &str) -> Processes {
        let parent = self
            .cgroup
            .clone()
            .or_else(|| Some(find_hierarchy()?.join("karst")));
        // Without the right to make one, servers are found by their directory alone.
        let usable = parent.filter(|dir| std::fs::create_dir_all(dir).is_ok());
        if usable.is_none() {
            tracing::warn!(%workload, "no cgroup of its own: its processes are found by their working directory");
        }
        Processes::new(
            Path::new(data),
            usable.map(|dir| Cgroup::new(&dir, workload.as_str())),
        )
    }
}

#[derive(Args)]
pub struct Deadman {
    #[command(flatten)]
    pub common: Common,
    /// A watchdog device to feed: a host whose deadman stands still is reset by its hardware
    #[arg(long)]
    pub watchdog: Option<PathBuf>,
}

#[derive(Args, Clone)]
pub struct Run {
    #[command(flatten)]
    pub common: Common,
    /// The cluster's spec file, the same on every node
    #[arg(long, default_value = "/etc/karst/spec.toml")]
    pub spec: PathBuf,
    /// Which node of the spec this is [default: the host name]
    #[arg(long)]
    pub node: Option<String>,
    /// This node forms the cluster: an empty node store votes at once. For the very first start
    /// only; a store that was lost is taken in again by `karst node enrol`
    #[arg(long)]
    pub form: bool,
    /// The spec's votes were changed on every host of the cluster while all were stopped. For one
    /// start of each; a node whose votes are others than before does not start without it
    #[arg(long)]
    pub votes_changed: bool,
    /// ca.pem, node.pem and node.key
    #[arg(long, default_value = "/etc/karst/tls")]
    pub tls: PathBuf,
    /// Who may use the HTTP service: lines of NAME LEVEL SHA256-IN-HEX
    #[arg(long, default_value = "/etc/karst/tokens")]
    pub tokens: PathBuf,
    /// The programs that the spec's own steps may name: they and this directory belong to root or to the
    /// daemon's user, and nobody else may write there
    #[arg(long, default_value = "/etc/karst/steps")]
    pub steps: PathBuf,
    /// Where the files lie that a host which joins is sent, as far as the spec refers to them; none
    /// from elsewhere is sent
    #[arg(long, default_value = "/etc/karst/secrets")]
    pub secrets: PathBuf,
    /// A file that says what of this host a spec may name: lines of programs DIR, launcher WORDS, user NAME, data DIR,
    /// logs DIR, secrets DIR; the usual places where there is no such file
    #[arg(long, default_value = "/etc/karst/allowed")]
    pub allowed: PathBuf,
    /// Where the host says which hardware it is, so that a power device can be matched with it
    #[arg(long, default_value = "/sys/class/dmi/id/product_uuid")]
    pub system_uuid: PathBuf,
    /// Log entries after which a snapshot takes their place
    #[arg(long, default_value_t = SNAPSHOT_AFTER, value_parser = clap::value_parser!(u64).range(1..))]
    pub snapshot_after: u64,
    /// The history store, a PostgreSQL URL without password
    #[arg(long)]
    pub history: Option<String>,
    /// A file with the history store's password
    #[arg(long)]
    pub history_password: Option<PathBuf>,
}

impl Run {
    /// What this host's owner lets a spec reach.
    pub fn allowed(&self) -> Allowed {
        Allowed {
            file: self.allowed.clone(),
            secrets: self.secrets.clone(),
        }
    }

    /// Where this host's own steps are.
    pub fn steps_of(&self, cluster: &str, me: &NodeId) -> Steps {
        Steps {
            dir: self.steps.clone(),
            cluster: cluster.into(),
            me: me.clone(),
        }
    }
}
