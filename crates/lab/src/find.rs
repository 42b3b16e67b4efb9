//! Processes of a lab, found from outside by what they are: drills signal them by number and
//! nothing else.

use crate::layout::Layout;
use anyhow::{Context, Result, bail};
use rustix::process::{Pid, Signal, kill_process};
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

fn all() -> Vec<i32> {
    let entries = fs::read_dir("/proc")
        .map(|d| d.flatten().collect::<Vec<_>>())
        .unwrap_or_default();
    entries
        .iter()
        .filter_map(|e| e.file_name().to_str()?.parse().ok())
        .collect()
}

fn words(pid: i32) -> Vec<String> {
    let bytes = fs::read(format!("/proc/{pid}/cmdline")).unwrap_or_default();
    bytes
        .split(|b| *b == 0)
        .filter(|w| !w.is_empty())
        .map(|w| String::from_utf8_lossy(w).into())
        .collect()
}

fn parent(pid: i32) -> Option<i32> {
    let stat = fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    stat.rsplit(')')
        .next()?
        .split_whitespace()
        .nth(1)?
        .parse()
        .ok()
}

/// Processes whose command names the lab's directory (a zombie has no command and does not count).
pub fn of_lab(layout: &Layout) -> Vec<i32> {
    let dir = layout.dir.to_string_lossy().into_owned();
    let me = std::process::id() as i32;
    let inside = |pid: &i32| {
        words(*pid).iter().any(|w| w.contains(&dir))
            || cwd(*pid).is_some_and(|c| c.starts_with(&layout.dir))
    };
    let roles = [
        "keep",
        "inside",
        "host",
        "lead",
        "writer",
        "dial",
        "crowd",
        "controller",
    ];
    let tool = |pid: &i32| {
        let is = |w: &String| {
            roles.contains(&w.as_str())
                || ["karstd", "postgres", "tcpdump"]
                    .iter()
                    .any(|program| w.ends_with(program))
        };
        words(*pid).iter().any(is)
    };
    all()
        .into_iter()
        .filter(|pid| *pid != me && inside(pid) && tool(pid))
        .collect()
}

fn cwd(pid: i32) -> Option<PathBuf> {
    fs::read_link(format!("/proc/{pid}/cwd")).ok()
}

/// All processes that work in this directory.
pub fn working_in(dir: &Path) -> Vec<i32> {
    all()
        .into_iter()
        .filter(|pid| cwd(*pid).is_some_and(|c| c == dir))
        .collect()
}

/// The server's first process on a host: the one whose parent is not of the server.
pub fn postmaster(layout: &Layout, host: &str) -> Result<i32> {
    let server = working_in(&layout.data(host));
    let first = server
        .iter()
        .find(|pid| parent(**pid).is_none_or(|p| !server.contains(&p)));
    first
        .copied()
        .with_context(|| format!("no server runs on {host}"))
}

/// `karstd run` or `karstd deadman` of a host.
pub fn daemon(layout: &Layout, host: &str, what: &str) -> Result<i32> {
    let runtime = layout.runtime(host).to_string_lossy().into_owned();
    let is = |pid: &i32| {
        let words = words(*pid);
        words.first().is_some_and(|w| w.ends_with("karstd"))
            && words.get(1).is_some_and(|w| w == what)
            && words.contains(&runtime)
    };
    let found: Vec<i32> = all().into_iter().filter(is).collect();
    // A child that it has just forked has its words until it becomes another program.
    let is_forked = |pid: &i32| parent(*pid).is_some_and(|above| found.contains(&above));
    found
        .iter()
        .copied()
        .find(|pid| !is_forked(pid))
        .with_context(|| format!("no `karstd {what}` runs on {host}"))
}

/// The first process of a host that has power.
pub fn host_init(layout: &Layout, host: &str) -> Result<i32> {
    let dir = layout.dir.to_string_lossy().into_owned();
    let is = |pid: &i32| {
        let words = words(*pid);
        words.first().is_some_and(|w| w.ends_with("karst-lab"))
            && words.contains(&dir)
            && words.ends_with(&["host".into(), host.into()])
    };
    all()
        .into_iter()
        .find(is)
        .with_context(|| format!("{host} has no power"))
}

/// The stand-in power controller.
pub fn controller(layout: &Layout) -> Result<i32> {
    let dir = layout.dir.to_string_lossy().into_owned();
    let is = |pid: &i32| {
        let words = words(*pid);
        words.contains(&dir) && words.last().is_some_and(|w| w == "controller")
    };
    all()
        .into_iter()
        .find(is)
        .context("the power controller does not run")
}

/// The lab's name server.
pub fn name_server(layout: &Layout) -> Result<i32> {
    let dir = layout.dir.to_string_lossy().into_owned();
    let is = |pid: &i32| {
        let words = words(*pid);
        words.first().is_some_and(|w| w.ends_with("knotd"))
            && words.iter().any(|w| w.starts_with(&dir))
    };
    all()
        .into_iter()
        .find(is)
        .context("the name server does not run")
}

/// Every process of a host, its first one included: those of its PID namespace.
pub fn on_host(layout: &Layout, host: &str) -> Result<Vec<i32>> {
    let namespace = |pid: i32| fs::read_link(format!("/proc/{pid}/ns/pid")).ok();
    let own = namespace(host_init(layout, host)?);
    Ok(all()
        .into_iter()
        .filter(|pid| namespace(*pid) == own)
        .collect())
}

/// The first process of the lab's own namespaces.
pub fn inside(layout: &Layout) -> Result<i32> {
    let dir = layout.dir.to_string_lossy().into_owned();
    let is = |pid: &i32| words(*pid).iter().any(|w| w == "inside") && words(*pid).contains(&dir);
    // Its launcher has the same words; the inside is the last of them.
    all()
        .into_iter()
        .filter(is)
        .max()
        .context("the lab does not run")
}

/// The words that run a command in the network of one of the lab's hosts or of its switch;
/// everything else stays as it is outside, process numbers included.
pub fn enter(layout: &Layout, network: &str) -> Result<Command> {
    let inside = inside(layout)?;
    let mut command = Command::new("nsenter");
    command.args([
        "-t",
        &inside.to_string(),
        &format!("--net=/proc/{inside}/root/run/netns/{network}"),
    ]);
    if !rustix::process::geteuid().is_root() {
        command.args(["-U", "--preserve-credentials"]);
    }
    Ok(command)
}

pub fn signal(pid: i32, signal: Signal) -> Result<()> {
    let pid = Pid::from_raw(pid).context("a process number")?;
    kill_process(pid, signal).with_context(|| format!("signal to {pid:?}"))
}

/// A program that was built beside this one.
pub fn sibling(name: &str) -> Result<PathBuf> {
    let me = std::env::current_exe()?;
    let dir = me.parent().context("this program's directory")?;
    // Test programs live one directory further down.
    for dir in [dir, dir.parent().unwrap_or(dir)] {
        if dir.join(name).exists() {
            return Ok(dir.join(name));
        }
    }
    bail!(
        "{name} is not beside {}: build it first (`cargo build`)",
        me.display()
    )
}
