//! karstd: runs the core on a real clock, network and disk, and serves the HTTP interface and the
//! console.
//!
//! `karstd run` is the daemon, `karstd deadman` the second small process on the same host. Both are
//! started by the host's service manager, and each is started again when it ends.

mod arguments;
mod boot;
mod clock;
mod deadman;
mod hands;
mod heart;
mod http;
mod lock;
mod peers;
mod pulse;
mod renew;
mod ship;
mod store;
mod tls;
mod whole;
mod wiring;

use anyhow::{Context, Result};
use arguments::{Cli, Command, Deadman};
use boot::Given;
use clap::Parser;
use deadman::watchdog::Watchdog;
use karst_adapters::process::raise_descriptor_limit;
use karst_core::WorkloadId;
use std::fs::Permissions;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use utoipa::OpenApi as _;

fn main() -> Result<()> {
    let cli = Cli::parse();
    let common = match &cli.command {
        Command::Run(run) => &run.common,
        Command::Deadman(deadman) => &deadman.common,
        Command::Document => {
            println!("{}", http::Document::openapi().to_pretty_json()?);
            return Ok(());
        }
    };
    boot::start_logs(common.json_logs);
    raise_descriptor_limit();
    // A host that is short of CPU must not look like a host that is gone; without the right to it,
    // it runs as it is.
    if let Err(error) = rustix::process::nice(-10) {
        tracing::warn!(%error, "no higher priority: a busy host may look like a lost one");
    }
    whole::exit_on_panic();
    rustls::crypto::ring::default_provider()
        .install_default()
        .ok();
    make_runtime(&common.runtime)
        .with_context(|| format!("runtime directory {}", common.runtime.display()))?;
    std::fs::create_dir_all(&common.state)
        .with_context(|| format!("state directory {}", common.state.display()))?;
    match cli.command {
        Command::Deadman(deadman) => watch_over(deadman),
        Command::Run(run) => {
            let (spec, text) = boot::load_spec(&run.spec)?;
            let me = boot::who_am_i(&spec, run.node.as_deref())?;
            boot::run_daemon(run, Given { spec, text, me })
        }
        Command::Document => Ok(()),
    }
}

/// Servers' sockets are below it, each in a directory of its own user: everybody may pass, and
/// nobody may look around.
fn make_runtime(dir: &Path) -> std::io::Result<()> {
    std::fs::create_dir_all(dir)?;
    std::fs::set_permissions(dir, Permissions::from_mode(0o711))
}

fn watch_over(Deadman { common, watchdog }: Deadman) -> Result<()> {
    let watchdog = watchdog
        .as_deref()
        .map(Watchdog::open)
        .transpose()
        .context("the watchdog device")?;
    let (runtime, list) = (common.runtime.clone(), common.state.join("watched.json"));
    let find = move |workload: &WorkloadId, data: &str| common.processes(workload, data);
    deadman::server::run(&runtime, list, Box::new(find), watchdog).context("the deadman")
}
