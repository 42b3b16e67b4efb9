//! Writers in the client host's network, in the background, with a journal of what they were told.

use crate::find;
use crate::journal::{self, Line};
use crate::layout::{CLIENT, Layout, host};
use anyhow::{Context, Result};
use std::net::SocketAddr;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

/// Writers on the client host, in the background.
pub struct Running {
    child: Child,
    pub journal: PathBuf,
    until: PathBuf,
}

impl Running {
    /// Lets every writer finish, and reads what they did.
    pub fn finish(mut self) -> Result<Vec<Line>> {
        std::fs::write(&self.until, "")?;
        self.child.wait().context("the writers")?;
        journal::read(&self.journal)
    }
}

/// Starts writers in the client host's network.
pub fn start_load(layout: &Layout, name: &str, writers: u32, pause_ms: u64) -> Result<Running> {
    start_writers(layout, name, (writers, pause_ms), &[])
}

/// Starts one that knows one gate or address, and no other.
pub fn start_through(layout: &Layout, name: &str, at: SocketAddr) -> Result<Running> {
    start_writers(layout, name, (1, 0), &["--through", &at.to_string()])
}

/// Starts one that goes past the gates to one host's server and waits for no standby: whatever gets
/// through to that server is acknowledged. Its rows are nobody's promise.
pub fn start_direct(layout: &Layout, name: &str, to: &str) -> Result<Running> {
    let to = host(to).with_context(|| format!("there is no host `{to}`"))?;
    let at = format!("{}:5432", to.client());
    start_writers(layout, name, (1, 0), &["--direct", &at])
}

fn start_writers(
    layout: &Layout,
    name: &str,
    (writers, pause_ms): (u32, u64),
    to: &[&str],
) -> Result<Running> {
    let dir = layout.dir.join("load");
    std::fs::create_dir_all(&dir)?;
    let (journal, until) = (
        dir.join(format!("{name}.journal")),
        dir.join(format!("{name}.stop")),
    );
    // A load of the same name that still runs stops when it sees its file.
    std::fs::write(&until, "")?;
    while find_writer(&until) {
        std::thread::sleep(Duration::from_millis(20));
    }
    let _ = std::fs::remove_file(&until);
    let mut command = find::enter(layout, CLIENT)?;
    command.arg(find::sibling("karst-lab")?);
    command.arg("--dir").arg(&layout.dir).arg("writer").args([
        "--writers",
        &writers.to_string(),
        "--pause-ms",
        &pause_ms.to_string(),
    ]);
    command
        .arg("--journal")
        .arg(&journal)
        .arg("--until")
        .arg(&until);
    command.args(to);
    let log = std::fs::File::create(layout.dir.join("logs/load.log"))?;
    let child = command
        .stdin(Stdio::null())
        .stdout(log.try_clone()?)
        .stderr(log)
        .process_group_of_its_own()
        .spawn()
        .context("nsenter")?;
    Ok(Running {
        child,
        journal,
        until,
    })
}

trait OwnGroup {
    fn process_group_of_its_own(&mut self) -> &mut Self;
}

impl OwnGroup for Command {
    fn process_group_of_its_own(&mut self) -> &mut Self {
        std::os::unix::process::CommandExt::process_group(self, 0)
    }
}

fn find_writer(until: &std::path::Path) -> bool {
    let name = until.to_string_lossy();
    let entries = std::fs::read_dir("/proc")
        .map(|d| d.flatten().collect::<Vec<_>>())
        .unwrap_or_default();
    entries.iter().any(|e| {
        let command = std::fs::read(e.path().join("cmdline")).unwrap_or_default();
        String::from_utf8_lossy(&command)
            .split('\0')
            .any(|w| w == name)
    })
}
