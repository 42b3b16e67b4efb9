//! The inside of a lab: the first process of its namespaces. It builds the networks, starts the
//! hosts and the history store, starts again what ends, and reaps what is left behind.

use crate::disk::{self, Volume};
use crate::layout::{ARCHIVE, CLIENT, CONTROLLER, GATES, Layout, RunAs, host, program};
use crate::unit::Unit;
use crate::{certs, keep, named, network};
use anyhow::{Context, Result};
use rustix::process::WaitOptions;
use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// Entries after which the lab's daemons take a snapshot: few, so that a host that was away for a
/// while needs one.
pub const SNAPSHOT_AFTER: u32 = 50;
/// Between the end of a process and its next start, as docs/hosts.md has a service manager do it: a
/// daemon should be back before anybody suspects its host.
const RESTART: Duration = Duration::from_millis(50);

/// A process that is started again when it ends, unless a file `hold` of its name exists.
struct Kept {
    name: String,
    start: Box<dyn Fn() -> Result<Child>>,
    child: Option<Child>,
    ended: Instant,
    hold: std::path::PathBuf,
}

impl Kept {
    fn new(
        name: &str,
        hold: std::path::PathBuf,
        start: impl Fn() -> Result<Child> + 'static,
    ) -> Self {
        let ended = Instant::now() - RESTART;
        Self {
            name: name.into(),
            start: Box::new(start),
            child: None,
            ended,
            hold,
        }
    }

    fn look(&mut self) {
        if let Some(child) = &mut self.child {
            if let Ok(Some(status)) = child.try_wait() {
                eprintln!("{} ended: {status}", self.name);
                (self.child, self.ended) = (None, Instant::now());
            }
        } else if self.ended.elapsed() >= RESTART && !self.hold.exists() {
            match (self.start)() {
                Ok(child) => self.child = Some(child),
                Err(error) => {
                    eprintln!("{} does not start: {error:#}", self.name);
                    self.ended = Instant::now();
                }
            }
        }
    }
}

/// Looks after its processes for ever. As the first process of a PID namespace it is everyone's
/// parent in the end.
fn supervise(mut kept: Vec<Kept>) -> ! {
    loop {
        kept.iter_mut().for_each(Kept::look);
        // Orphans: those that are nobody's `Child` here. A child's own status is taken by
        // `try_wait` above first.
        let known: Vec<u32> = kept
            .iter()
            .filter_map(|k| k.child.as_ref().map(Child::id))
            .collect();
        reap_orphans(&known);
        std::thread::sleep(Duration::from_millis(10));
    }
}

/// Reaps children that were inherited. `waitid` with "any child" would take the status of known
/// ones too, so each other child is asked for by its number.
fn reap_orphans(known: &[u32]) {
    let children = fs::read_to_string("/proc/1/task/1/children").unwrap_or_default();
    let orphans = children
        .split_whitespace()
        .filter_map(|c| c.parse::<u32>().ok())
        .filter(|c| !known.contains(c));
    for pid in orphans.filter_map(|pid| rustix::process::Pid::from_raw(pid as i32)) {
        let _ = rustix::process::waitpid(Some(pid), WaitOptions::NOHANG);
    }
}

pub fn run(layout: &Layout) -> Result<()> {
    sh("mount -t tmpfs tmpfs /run && mkdir -p /run/netns && ip link set lo up")?;
    certs::prepare(layout)?;
    crate::hang::prepare(layout);
    for node in layout.nodes() {
        for volume in Volume::BOTH {
            disk::mount(layout, node.name, volume)
                .with_context(|| format!("the {volume:?} disk of {}", node.name))?;
        }
    }
    network::build(layout).context("the networks")?;
    let me = std::env::current_exe()?;
    let mut kept = Vec::new();
    let (archive, archive_layout) = (layout.host(ARCHIVE), layout.clone());
    kept.push(Kept::new(
        "history store",
        archive.join("hold"),
        move || start_archive(&archive_layout),
    ));
    for node in layout.nodes() {
        let (me, layout, hold) = (
            me.clone(),
            layout.clone(),
            layout.host(node.name).join("off"),
        );
        let start = move || {
            let log = log_file(&layout.host(node.name).join("log/host.log"))?;
            // A host: its own network, processes, mounts, shared memory and name.
            Command::new("ip")
                .args(["netns", "exec", node.name])
                .args(keep::OWN.split(' '))
                .arg(&me)
                .arg("--dir")
                .arg(&layout.dir)
                .args(["host", node.name])
                .stdin(Stdio::null())
                .stdout(log.try_clone()?)
                .stderr(log)
                .spawn()
                .context("a host")
        };
        kept.push(Kept::new(node.name, hold, start));
    }
    let (program, controller_layout) = (me.clone(), layout.clone());
    kept.push(Kept::new(
        "power controller",
        layout.host(CONTROLLER).join("hold"),
        move || {
            let log = log_file(&controller_layout.dir.join("logs/controller.log"))?;
            let mut command = Command::new("ip");
            command
                .args(["netns", "exec", CONTROLLER])
                .arg(&program)
                .arg("--dir")
                .arg(&controller_layout.dir);
            command
                .arg("controller")
                .stdin(Stdio::null())
                .stdout(log.try_clone()?)
                .stderr(log);
            command.spawn().context("the power controller")
        },
    ));
    if layout.shape.name {
        layout.prepare_named()?;
        let (hold, layout) = (layout.host(CLIENT).join("hold"), layout.clone());
        let start = move || named::start(&layout);
        kept.push(Kept::new("name server", hold, start));
    }
    kept.extend(leads(layout, &me)?);
    supervise(kept)
}

/// The gates, led out to the user's own loopback.
fn leads(layout: &Layout, me: &Path) -> Result<Vec<Kept>> {
    let mut kept = Vec::new();
    for (i, name) in GATES.iter().enumerate() {
        let (me, socket) = (me.to_owned(), keep::gate_socket(layout, i));
        let to = format!("{}:26900", host(name).context("a gate's host")?.client());
        let dir = layout.dir.clone();
        kept.push(Kept::new("lead", layout.dir.join("no-leads"), move || {
            let mut command = Command::new("ip");
            command
                .args(["netns", "exec", CLIENT])
                .arg(&me)
                .arg("--dir")
                .arg(&dir)
                .arg("lead")
                .arg(&socket)
                .arg(&to);
            command.stdin(Stdio::null()).spawn().context("a lead")
        }));
    }
    Ok(kept)
}

fn sh(script: &str) -> Result<()> {
    let status = Command::new("sh").args(["-ec", script]).status()?;
    anyhow::ensure!(status.success(), "`{script}` failed");
    Ok(())
}

pub(crate) fn log_file(path: &Path) -> Result<File> {
    fs::OpenOptions::new()
        .create(true)
        .append(true)
        .open(path)
        .with_context(|| path.display().to_string())
}

fn start_archive(layout: &Layout) -> Result<Child> {
    let run_as = RunAs::now_inside();
    let dir = layout.host(ARCHIVE);
    let data = dir.join("data");
    let words = run_as.words();
    let server = |name: &str| {
        let mut command = Command::new(&words[0]);
        command
            .args(&words[1..])
            .arg(program(name))
            .env_clear()
            .env("PATH", "/usr/bin:/bin")
            .current_dir("/");
        command
    };
    if !data.join("PG_VERSION").exists() {
        let _ = fs::remove_dir_all(&data);
        fs::create_dir_all(&data)?;
        let password = dir.join("password");
        fs::copy(layout.secret("history"), &password)?;
        if run_as == RunAs::Postgres {
            sh(&format!("chown -R postgres:postgres '{}'", dir.display()))?;
        }
        let made = server("initdb")
            .args([
                "--username=karst_history",
                "--auth=scram-sha-256",
                "--no-instructions",
                "--no-sync",
                "--encoding=UTF8",
            ])
            .arg("--pwfile")
            .arg(&password)
            .arg("-D")
            .arg(&data)
            .output()?;
        anyhow::ensure!(
            made.status.success(),
            "initdb: {}",
            String::from_utf8_lossy(&made.stderr)
        );
        fs::remove_file(password)?;
        let mut hba = fs::read_to_string(data.join("pg_hba.conf"))?;
        hba += "host all all 10.40.0.0/24 scram-sha-256\n";
        fs::write(data.join("pg_hba.conf"), hba)?;
    }
    let _ = fs::remove_file(data.join("postmaster.pid"));
    let log = log_file(&layout.dir.join("logs/history.log"))?;
    let mut command = Command::new("ip");
    command
        .args(["netns", "exec", ARCHIVE])
        .args(&words)
        .arg(program("postgres"))
        .arg("-D")
        .arg(&data);
    command.args([
        "-c",
        "listen_addresses=*",
        "-c",
        "shared_buffers=32MB",
        "-c",
        "max_connections=60",
    ]);
    command
        .arg("-c")
        .arg(format!("unix_socket_directories={}", dir.display()));
    command
        .stdin(Stdio::null())
        .stdout(log.try_clone()?)
        .stderr(log)
        .current_dir("/")
        .spawn()
        .context("the history store")
}

impl RunAs {
    /// Inside a user namespace everyone looks like root: what counts is who may become `postgres`.
    fn now_inside() -> Self {
        let map = fs::read_to_string("/proc/self/uid_map").unwrap_or_default();
        let whole = map
            .split_whitespace()
            .nth(2)
            .is_some_and(|count| count.parse::<u64>().is_ok_and(|n| n > 1));
        if whole { Self::Postgres } else { Self::Nested }
    }
}

/// What runs on one host.
#[derive(Clone)]
struct Hosted {
    layout: Layout,
    name: String,
    /// The program of both.
    daemon: PathBuf,
}

impl Hosted {
    fn dir(&self) -> PathBuf {
        self.layout.host(&self.name)
    }

    /// What both are told, and where what they say goes.
    fn spawn(&self, mut command: Command, log: &fs::File) -> Result<Child> {
        command.arg("--state").arg(self.dir().join("state"));
        command
            .arg("--runtime")
            .arg(self.layout.runtime(&self.name));
        if let Some(cgroup) = self.layout.cgroup() {
            command.arg("--cgroup").arg(cgroup.join(&self.name));
        }
        command
            .stdin(Stdio::null())
            .stdout(log.try_clone()?)
            .stderr(log.try_clone()?);
        command
            .spawn()
            .with_context(|| self.daemon.display().to_string())
    }

    /// The program, within the bounds of that unit where the lab is to have them.
    fn command(&self, unit: &str) -> Result<Command> {
        if !self.layout.shape.units {
            return Ok(Command::new(&self.daemon));
        }
        let mut command = Unit::read(unit)?.before(&self.layout, &self.name)?;
        command.arg(&self.daemon);
        Ok(command)
    }

    fn deadman(&self) -> Result<Kept> {
        let (host, log) = (self.clone(), log_file(&self.dir().join("log/deadman.log"))?);
        Ok(Kept::new(
            "deadman",
            self.dir().join("hold-deadman"),
            move || {
                let mut command = host.command(Unit::DEADMAN)?;
                command.args(["deadman", "--json-logs"]);
                command
                    .arg("--watchdog")
                    .arg(host.layout.watchdog(&host.name));
                host.spawn(command, &log)
            },
        ))
    }

    fn karstd(&self) -> Result<Kept> {
        let (host, log) = (self.clone(), log_file(&self.dir().join("log/karstd.log"))?);
        Ok(Kept::new(
            "karstd",
            self.dir().join("hold-daemon"),
            move || host.start_karstd(&log),
        ))
    }

    fn start_karstd(&self, log: &fs::File) -> Result<Child> {
        let mut command = match self.layout.shape.descriptors {
            Some(most) => {
                let mut command = Command::new("prlimit");
                command
                    .arg(format!("--nofile={most}:{most}"))
                    .arg(&self.daemon);
                command
            }
            None => self.command(Unit::DAEMON)?,
        };
        command.arg("run");
        // At its very first start, and never again: a store that is lost later must not vote.
        let (formed, own) = (self.dir().join("formed"), self.layout.own_spec(&self.name));
        if !formed.exists() && !own.exists() {
            command.arg("--form");
            fs::write(&formed, "")?;
        }
        command
            .arg("--snapshot-after")
            .arg(SNAPSHOT_AFTER.to_string());
        crate::hang::preload(&self.layout, &self.name, &mut command);
        command
            .arg("--system-uuid")
            .arg(self.dir().join("system_uuid"));
        command.arg("--tls").arg(self.dir().join("tls"));
        command.arg("--steps").arg(self.dir().join("steps"));
        command
            .arg("--allowed")
            .arg(self.layout.secret("allowed"))
            .arg("--secrets")
            .arg(self.layout.dir.join("secrets"));
        let spec = if own.exists() {
            own
        } else {
            self.layout.spec()
        };
        command.arg("--spec").arg(spec);
        command.args(["--node", &self.name]);
        command.arg("--tokens").arg(self.layout.secret("tokens"));
        let history = format!(
            "postgres://karst_history@{}/postgres",
            network::ARCHIVE_ADDRESS
        );
        command.arg("--history").arg(history);
        command
            .arg("--history-password")
            .arg(self.layout.secret("history"));
        self.spawn(command, log)
    }
}

/// The first process of one host.
pub fn run_host(layout: &Layout, name: &str) -> Result<()> {
    let dir = layout.host(name);
    let boot = dir.join("boot_id");
    let id = rand::random::<u128>();
    fs::write(&boot, format!("{id:032x}\n"))?;
    sh(&format!(
        "mount --bind '{}' /proc/sys/kernel/random/boot_id; mount -t tmpfs tmpfs /dev/shm; hostname {name}; \
         mount -t cgroup2 cgroup2 /sys/fs/cgroup 2>/dev/null || true",
        boot.display()
    ))?;
    // A reboot empties the runtime directory.
    let runtime = layout.runtime(name);
    let _ = fs::remove_dir_all(&runtime);
    fs::create_dir_all(&runtime)?;
    use std::os::unix::fs::PermissionsExt;
    fs::set_permissions(&runtime, fs::Permissions::from_mode(0o711))?;
    let host = Hosted {
        layout: layout.clone(),
        name: name.into(),
        daemon: crate::find::sibling("karstd")?,
    };
    supervise(vec![host.deadman()?, host.karstd()?])
}
