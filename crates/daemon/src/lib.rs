//! karstd: runs the core on a real clock, network and disk, and serves the HTTP interface and the
//! console.
//!
//! `karstd run` is the daemon, `karstd deadman` the second small process on the same host. Both are
//! started by the host's service manager, and each is started again when it ends.

/// Tests look how much memory a hostile input takes.
#[cfg(test)]
#[global_allocator]
static MEMORY: peak_alloc::PeakAlloc = peak_alloc::PeakAlloc;

mod about;
mod allowed;
mod arguments;
mod boot;
mod clock;
mod deadman;
mod examine;
mod given;
mod hands;
mod heart;
mod http;
mod judge;
mod lock;
mod measured;
mod nightly;
mod panics;
mod peers;
mod proven;
mod pulse;
mod readiness;
mod renew;
mod ship;
mod steps;
mod store;
mod tls;
mod tokens;
mod whole;
mod wiring;

use anyhow::{Context, Result};
use arguments::{Cli, Command, Deadman, Run};
use clap::Parser;
use deadman::watchdog::Watchdog;
use given::Given;
use karst_adapters::process::raise_descriptor_limit;
use karst_core::WorkloadId;
use panics::Panics;
use std::fs::Permissions;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use utoipa::OpenApi as _;

/// Runs the program by the words that it was given.
pub fn run() -> Result<()> {
    let cli = Cli::parse();
    let common = match &cli.command {
        Command::Run(run) => &run.common,
        Command::Deadman(deadman) => &deadman.common,
        Command::Examine(run) => return examine_host(run),
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
    rustls::crypto::ring::default_provider()
        .install_default()
        .ok();
    make_runtime(&common.runtime)
        .with_context(|| format!("runtime directory {}", common.runtime.display()))?;
    std::fs::create_dir_all(&common.state)
        .with_context(|| format!("state directory {}", common.state.display()))?;
    match cli.command {
        Command::Deadman(deadman) => {
            whole::exit_on_panic(|_| ());
            watch_over(deadman)
        }
        Command::Run(run) => {
            whole::exit_on_panic(panics::noted_in(&run.common.state));
            let (spec, text) = given::load_spec(&run.spec)?;
            let me = given::who_am_i(&spec, run.node.as_deref())?;
            let given = Given { spec, text, me };
            match Panics::read(&run.common.state).habit() {
                None => boot::run_daemon(run, given),
                Some(said) => boot::explain(&run, &given, said),
            }
        }
        Command::Examine(_) | Command::Document => Ok(()),
    }
}

/// Servers' sockets are below it, each in a directory of its own user: everybody may pass, and
/// nobody may look around.
fn make_runtime(dir: &Path) -> std::io::Result<()> {
    std::fs::create_dir_all(dir)?;
    std::fs::set_permissions(dir, Permissions::from_mode(0o711))
}

fn watch_over(Deadman { common, watchdog }: Deadman) -> Result<()> {
    let device = watchdog.as_ref().map(|path| path.display().to_string());
    let watchdog = watchdog
        .as_deref()
        .map(Watchdog::open)
        .transpose()
        .context("the watchdog device")?;
    say_of_host(common.runtime.clone(), device);
    let (runtime, list) = (common.runtime.clone(), common.state.join("watched.json"));
    let find = move |workload: &WorkloadId, data: &str| common.processes(workload, data);
    deadman::server::run(&runtime, list, Box::new(find), watchdog).context("the deadman")
}

/// Beside what the deadman has to do, which waits for nothing.
fn say_of_host(runtime: std::path::PathBuf, watchdog: Option<String>) {
    std::thread::spawn(move || {
        let guard = karst_adapters::Guard::default().look();
        let said = deadman::OfHost {
            watchdog,
            unguarded: guard.err().map(|error| error.to_string()),
        };
        let path = deadman::host_file(&runtime);
        let json = serde_json::to_vec(&said).unwrap_or_default();
        let dir = path.parent().unwrap_or(&runtime);
        if let Err(error) = std::fs::create_dir_all(dir).and_then(|()| std::fs::write(&path, json))
        {
            tracing::warn!(%error, "what is said of this host's guards cannot be written");
        }
    });
}

fn examine_host(run: &Run) -> Result<()> {
    rustls::crypto::ring::default_provider()
        .install_default()
        .ok();
    let needs = examine::look(run)?;
    println!("{}", serde_json::to_string(&needs)?);
    Ok(())
}
