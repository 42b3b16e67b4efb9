//! One replica's server as the host sees it: starting it as its own user in its own cgroup, the
//! handle to its first process, its files and its log. The same for every program.

use crate::files::{Files, with_ending};
use crate::process;
use crate::site::Site;
use crate::trouble::{Result, Trouble};
use karst_core::RunId;
use karst_core::replica::Copied;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::process::{Pid, PidfdFlags, Signal, pidfd_open, pidfd_send_signal};
use std::collections::VecDeque;
use std::fs::{OpenOptions, Permissions};
use std::io::{Read as _, Seek as _, SeekFrom, Write as _};
use std::os::fd::OwnedFd;
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt, chown, fchown};
use std::path::{Path, PathBuf};
use std::process::{Output, Stdio};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::io::{AsyncBufReadExt, BufReader};
use tokio::process::{Child, Command};

/// So much of its log is looked through for the reason of its end.
const LAST_WORDS: u64 = 8192;
/// So much of a file is copied at a time.
const PIECE: u64 = 16 << 20;
const NOW: Timespec = Timespec {
    tv_sec: 0,
    tv_nsec: 0,
};
/// How long ending all processes may take before it is reported as trouble.
const END_LIMIT: Duration = Duration::from_secs(10);

/// What is remembered between two calls; nothing that a new daemon could not find out.
#[derive(Debug, Default)]
struct Memory {
    /// Its first process, by a handle that cannot come to mean another one, and which run that is.
    first: Option<(Arc<OwnedFd>, RunId)>,
    /// How far the copying is that runs now.
    copied: Option<Copied>,
}

/// One replica's server on this host.
#[derive(Debug)]
pub struct Host {
    pub site: Site,
    /// The file in its data directory whose first line is the number of its first process.
    process_file: &'static str,
    memory: Mutex<Memory>,
}

impl Host {
    pub fn new(site: Site, process_file: &'static str) -> Self {
        Self {
            site,
            process_file,
            memory: Mutex::default(),
        }
    }

    fn remember<T>(&self, f: impl FnOnce(&mut Memory) -> T) -> T {
        f(&mut self
            .memory
            .lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner))
    }

    /// Its files, touched with its user's rights.
    pub fn files(&self) -> Files {
        Files {
            owner: self.site.owner,
        }
    }

    /// A path beside the data. The whole name stays: `a.x` and `a.y` are two replicas' data.
    pub fn beside(&self, what: &str) -> PathBuf {
        with_ending(&self.site.data, what)
    }

    pub fn clear(&self, path: &Path) -> Result<()> {
        self.files()
            .clear(path)
            .map_err(Trouble::io(path.display().to_string()))
    }

    /// Puts a complete copy in the place of the data, so that the data directory always holds
    /// either the old data or a whole copy.
    pub fn swap_in(&self, copy: &Path) -> Result<()> {
        let (data, old) = (&self.site.data, self.beside("old"));
        let files = self.files();
        let swap = || {
            if files.exists(data)? {
                files.rename(data, &old)?;
            }
            files.rename(copy, data)
        };
        swap().map_err(Trouble::io(data.display().to_string()))?;
        self.clear(&old)
    }
}

impl Host {
    /// The runtime directory, and in it one of the server's own for its socket.
    pub fn make_runtime(&self) -> Result<()> {
        let (dir, group) = (&self.site.runtime, self.site.owner.map(|(_, gid)| gid));
        let make = || {
            std::fs::create_dir_all(dir)?;
            chown(dir, None, group)?;
            std::fs::set_permissions(dir, Permissions::from_mode(0o750))
        };
        make().map_err(Trouble::io(dir.display().to_string()))?;
        let socket = self.site.socket_dir();
        self.files()
            .ensure_dir(&socket)
            .map_err(Trouble::io(socket.display().to_string()))
    }

    /// A file in the runtime directory that the server may read and not replace.
    pub fn lay_out(&self, name: &str, text: &str, mode: u32) -> Result<()> {
        let (path, group) = (
            self.site.runtime.join(name),
            self.site.owner.map(|(_, gid)| gid),
        );
        if std::fs::read_to_string(&path).is_ok_and(|now| now == text) {
            return Ok(());
        }
        let next = with_ending(&path, "next");
        let write = || {
            let _ = std::fs::remove_file(&next);
            let mut file = OpenOptions::new()
                .write(true)
                .create_new(true)
                .mode(0o600)
                .open(&next)?;
            file.write_all(text.as_bytes())?;
            fchown(&file, None, group)?;
            file.set_permissions(Permissions::from_mode(mode))?;
            std::fs::rename(&next, &path)
        };
        write().map_err(Trouble::io(path.display().to_string()))
    }
}

impl Host {
    /// A server program, run as the server's user, with nothing of Karst's environment.
    pub fn program(&self, program: &Path) -> Command {
        launched(&self.site.launcher, program)
    }

    /// Runs one to its end; `progress` reads how far it is from a line of what it says.
    pub async fn run(
        &self,
        mut command: Command,
        name: &str,
        progress: fn(&str) -> Option<Copied>,
    ) -> Result<Output> {
        command
            .kill_on_drop(true)
            .stdout(Stdio::piped())
            .stderr(Stdio::piped());
        let mut child = command.spawn().map_err(Trouble::io(name))?;
        process::at_ordinary_priority(&child);
        let said = child.stderr.take().map(|said| BufReader::new(said).lines());
        let mut last = VecDeque::new();
        let far = Far(self);
        let listen = async {
            let Some(mut said) = said else { return };
            while let Ok(Some(line)) = said.next_line().await {
                match progress(&line) {
                    Some(copied) => far.is(copied),
                    None => last.push_back(line),
                }
                if last.len() > 3 {
                    last.pop_front();
                }
            }
        };
        let ((), output) = tokio::join!(listen, child.wait_with_output());
        let output = output.map_err(Trouble::io(name))?;
        if output.status.success() {
            return Ok(output);
        }
        Err(Trouble::Program {
            program: name.into(),
            output: Vec::from(last).join("; "),
        })
    }

    /// Copies what a directory holds, and says how far it is; `place` says where each is to be. By a
    /// piece at a time: whoever abandons it waits for no more than that.
    pub async fn copy_tree(&self, from: &Path, place: impl Fn(&Path) -> PathBuf) -> Result<()> {
        let files = self.files();
        let tree = files
            .tree(from)
            .map_err(Trouble::io(from.display().to_string()))?;
        let total = tree.iter().filter_map(|(_, length)| *length).sum();
        let (far, mut done) = (Far(self), 0);
        for (path, length) in tree {
            let (source, target) = (from.join(&path), place(&path));
            let made = match length {
                None => files.make_dir(&target).map(|()| None),
                Some(_) => files.create(&target).map(Some),
            };
            let Some(mut copy) = made.map_err(Trouble::io(target.display().to_string()))? else {
                continue;
            };
            let trouble = || Trouble::io(source.display().to_string());
            let mut original = files.open_linked(&source).map_err(trouble())?;
            loop {
                let piece = move || {
                    let copied = std::io::copy(&mut (&original).take(PIECE), &mut copy)?;
                    Ok((copied, original, copy))
                };
                let copied = tokio::task::spawn_blocking(piece).await;
                let copied = copied.map_err(|e| Trouble::Wrong(e.to_string()))?;
                let (bytes, from, to) = copied.map_err(trouble())?;
                (original, copy) = (from, to);
                if bytes == 0 {
                    break;
                }
                done += bytes;
                far.is(Copied { done, total });
            }
        }
        Ok(())
    }

    /// How far that is.
    pub fn copied(&self) -> Option<Copied> {
        self.remember(|m| m.copied)
    }

    /// Starts the server itself. It outlives this daemon: it is the deadman that bounds its life
    /// (C6).
    pub fn spawn(&self, program: &Path, arguments: &[String]) -> Result<Child> {
        self.remember(|m| *m = Memory::default());
        let process_file = self.site.data.join(self.process_file);
        self.files()
            .remove(&process_file)
            .map_err(Trouble::io(process_file.display().to_string()))?;
        let log = self.own_words();
        let out = self
            .files()
            .append(&log)
            .map_err(Trouble::io(log.display().to_string()))?;
        let err = out
            .try_clone()
            .map_err(Trouble::io(log.display().to_string()))?;
        let mut launcher = self
            .site
            .processes
            .entry()
            .map_err(Trouble::io("the cgroup of the workload"))?;
        launcher.extend(self.site.launcher.iter().cloned());
        let mut command = launched(&launcher, program);
        command
            .args(arguments)
            .stdout(out)
            .stderr(err)
            .process_group(0);
        let child = command
            .kill_on_drop(false)
            .spawn()
            .map_err(Trouble::io(program.display().to_string()))?;
        process::at_ordinary_priority(&child);
        Ok(child)
    }

    /// The file that the server's messages go to.
    pub fn own_words(&self) -> PathBuf {
        self.beside("log")
    }

    /// The end of what it has said.
    pub fn last_words(&self) -> Option<String> {
        let mut log = self.files().open(&self.own_words()).ok()?;
        let length = log.metadata().ok()?.len();
        log.seek(SeekFrom::Start(length.saturating_sub(LAST_WORDS)))
            .ok()?;
        let mut tail = Vec::new();
        log.take(LAST_WORDS).read_to_end(&mut tail).ok()?;
        Some(String::from_utf8_lossy(&tail).into_owned())
    }
}

impl Host {
    /// The first process of the running server, as the server's own file says.
    fn first_number(&self) -> Option<Pid> {
        let file = self
            .files()
            .read_text(&self.site.data.join(self.process_file))
            .ok()?;
        let pid = file.lines().next()?.trim().parse().ok()?;
        // Numbers repeat: believe the file only if such a process works in the data directory.
        self.site
            .processes
            .list()
            .ok()?
            .contains(&pid)
            .then(|| Pid::from_raw(pid))?
    }

    /// Whether it is known that nothing of the server runs.
    ///
    /// # Errors
    /// If that cannot be found out.
    pub fn nothing_runs(&self) -> Result<bool> {
        let listed = self
            .site
            .processes
            .list()
            .map_err(Trouble::io("the server's processes"))?;
        Ok(listed.is_empty())
    }

    /// A handle to the first process of the running server, which cannot come to mean another one.
    pub fn first(&self) -> Option<Arc<OwnedFd>> {
        let known = self.remember(|m| m.first.clone());
        if let Some((first, _)) = known.filter(|(first, _)| is_alive(first)) {
            return Some(first);
        }
        let number = self.first_number()?;
        let first = handle_of(number)?;
        // Of the process that the handle means: it is alive still.
        let run = run_of(number).filter(|_| is_alive(&first))?;
        self.remember(|m| m.first = Some((first.clone(), run)));
        Some(first)
    }

    /// Which run of the server this is, if one runs.
    pub fn run_now(&self) -> Option<RunId> {
        self.first()?;
        self.remember(|m| Some(m.first.as_ref()?.1.clone()))
    }

    /// It had a first process, which has exited, and has no other yet.
    pub fn has_lost_first(&self) -> bool {
        self.remember(|m| m.first.clone())
            .is_some_and(|(fd, _)| !is_alive(&fd))
    }

    /// Sends the first process a signal.
    ///
    /// # Errors
    /// If there is none.
    pub fn signal(&self, signal: Signal, what: &'static str) -> Result<()> {
        let none = || Trouble::Wrong(format!("{what}: the server does not run"));
        let first = self.first().ok_or_else(none)?;
        pidfd_send_signal(&*first, signal).map_err(|e| Trouble::io(what)(e.into()))
    }

    /// Waits until the server's first process exits; for ever while none runs.
    pub async fn exited(&self) {
        match self.first() {
            Some(fd) => exit_of(fd).await,
            None => std::future::pending().await,
        }
    }

    /// Ends every process of the server, and verifies (C1, D12).
    pub async fn end_all(&self) -> Result<()> {
        let processes = self.site.processes.clone();
        let ended = tokio::task::spawn_blocking(move || processes.end_all(END_LIMIT)).await;
        ended
            .map_err(|e| Trouble::Wrong(e.to_string()))?
            .map(drop)
            .map_err(Trouble::io("ending the server's processes"))
    }
}

fn launched(launcher: &[String], program: &Path) -> Command {
    let mut command = match launcher.split_first() {
        Some((first, rest)) => {
            let mut command = Command::new(first);
            command.args(rest).arg(program);
            command
        }
        None => Command::new(program),
    };
    command
        .env_clear()
        .env("PATH", "/usr/bin:/bin")
        .env("LC_ALL", "C.UTF-8");
    command.stdin(Stdio::null()).current_dir("/");
    command
}

/// The boot, the process, and when that was started in it (proc(5), `/proc/PID/stat`, field 22).
fn run_of(pid: Pid) -> Option<RunId> {
    let boot = std::fs::read_to_string("/proc/sys/kernel/random/boot_id").ok()?;
    let stat = std::fs::read_to_string(format!("/proc/{}/stat", pid.as_raw_nonzero())).ok()?;
    // A name may have anything in it, and ends with the last bracket.
    let (_, fields) = stat.rsplit_once(')')?;
    let started = fields.split_whitespace().nth(19)?;
    let boot = boot.trim().split('-').next()?;
    Some(format!("{boot}-{}-{started}", pid.as_raw_nonzero()).into())
}

/// A handle to a process, while there is one of that number.
pub fn handle_of(pid: Pid) -> Option<Arc<OwnedFd>> {
    pidfd_open(pid, PidfdFlags::empty()).ok().map(Arc::new)
}

pub fn is_alive(fd: &Arc<OwnedFd>) -> bool {
    !exits_within(fd, &NOW)
}

/// Returns when the process of a pidfd has exited, without a poll interval in between. Dropping it
/// leaves a thread for a second at most.
pub async fn exit_of(fd: Arc<OwnedFd>) {
    let second = Timespec {
        tv_sec: 1,
        tv_nsec: 0,
    };
    loop {
        let fd = fd.clone();
        let waited = tokio::task::spawn_blocking(move || exits_within(&fd, &second));
        if waited.await.unwrap_or(true) {
            return;
        }
    }
}

/// A pidfd is readable once its process has exited (pidfd_open(2)).
fn exits_within(fd: &OwnedFd, time: &Timespec) -> bool {
    poll(&mut [PollFd::new(fd, PollFlags::IN)], Some(time)).is_ok_and(|ready| ready > 0)
}

/// How far a program is, for as long as it runs: one that is abandoned says nothing more either.
struct Far<'a>(&'a Host);

impl Far<'_> {
    fn is(&self, copied: Copied) {
        self.0.remember(|m| m.copied = Some(copied));
    }
}

impl Drop for Far<'_> {
    fn drop(&mut self) {
        self.0.remember(|m| m.copied = None);
    }
}
