//! The site's own steps: programs of this host's own directory, each with a limit, what it wrote, and
//! nothing left of it afterwards.
//!
//! A spec names files of that directory and no others, so that whoever may change the spec runs
//! nothing here that the host's owner has not put there.

use crate::site::ids_of;
use karst_core::NodeId;
use karst_core::ownstep::{Ended, Occasion, OwnStep, Ran};
use rustix::process::{Pid, Signal, geteuid, kill_process_group};
use std::io;
use std::os::unix::fs::MetadataExt;
use std::os::unix::process::ExitStatusExt;
use std::path::PathBuf;
use std::process::{ExitStatus, Stdio};
use std::time::{Duration, Instant};
use tokio::io::AsyncReadExt;
use tokio::net::unix::pipe::Receiver;
use tokio::process::{Child, Command};

/// After its end, for what is still on its way; whoever keeps the pipe open is not waited for.
const LAST_WORDS: Duration = Duration::from_millis(200);

/// Where this host's steps are, and what each is told.
#[derive(Clone, Debug)]
pub struct Steps {
    pub dir: PathBuf,
    pub cluster: String,
    pub me: NodeId,
}

/// A process group; all of it is ended when this is dropped.
struct Group(Option<Pid>);

impl Drop for Group {
    fn drop(&mut self) {
        if let Some(leader) = self.0 {
            // There may be nobody left.
            let _ = kill_process_group(leader, Signal::KILL);
        }
    }
}

impl Steps {
    /// Runs one to its end, or to its limit. Dropped before that, nothing of it goes on.
    pub async fn run(&self, name: &str, step: &OwnStep, occasion: &Occasion, tried: bool) -> Ran {
        let begun = Instant::now();
        let mut output = Vec::new();
        let ended = match self.begin(name, step, occasion, tried) {
            Err(why) => Ended::NotBegun(why),
            Ok((child, said)) => end(child, said, step.limit, &mut output).await,
        };
        Ran {
            step: name.into(),
            took: begun.elapsed(),
            ended,
            output: last_of(&output),
        }
    }

    /// Why a step could not be run here, if so.
    pub fn lacks(&self, step: &OwnStep) -> Option<String> {
        let user = || as_user(step).map(drop);
        self.program(step).map(drop).and_then(|()| user()).err()
    }

    fn begin(
        &self,
        name: &str,
        step: &OwnStep,
        occasion: &Occasion,
        tried: bool,
    ) -> Result<(Child, Receiver), String> {
        let program = self.program(step)?;
        let refused = |e: io::Error| format!("{}: {e}", program.display());
        let (said, says) = io::pipe().map_err(refused)?;
        let mut command = Command::new(&program);
        command
            .args(&step.args)
            .env_clear()
            .env(
                "PATH",
                "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin",
            )
            .envs(self.told(name, occasion, tried))
            .current_dir("/")
            .process_group(0)
            .kill_on_drop(true)
            .stdin(Stdio::null())
            .stdout(says.try_clone().map_err(refused)?)
            .stderr(says);
        if let Some((uid, gid)) = as_user(step)? {
            command.uid(uid).gid(gid);
        }
        let child = command.spawn().map_err(refused)?;
        // With the command its own ends of the pipe are closed: the rest are the program's.
        drop(command);
        let said = Receiver::from_owned_fd(said.into()).map_err(refused)?;
        Ok((child, said))
    }

    /// What a step is told, by name and value.
    pub fn told(
        &self,
        name: &str,
        occasion: &Occasion,
        tried: bool,
    ) -> Vec<(&'static str, String)> {
        let text = |value: Option<String>| value.unwrap_or_default();
        vec![
            ("KARST_CLUSTER", self.cluster.clone()),
            ("KARST_STEP", name.into()),
            ("KARST_POINT", occasion.at.word().into()),
            ("KARST_HOST", self.me.to_string()),
            ("KARST_NODE", occasion.node.to_string()),
            (
                "KARST_WORKLOAD",
                text(occasion.workload.as_ref().map(ToString::to_string)),
            ),
            (
                "KARST_OPERATION",
                text(occasion.operation.map(|id| id.to_string())),
            ),
            (
                "KARST_EPOCH",
                text(occasion.epoch.map(|epoch| epoch.0.to_string())),
            ),
            ("KARST_TRY", if tried { "1" } else { "" }.into()),
        ]
    }

    /// It is the host's owner's own, and nobody else could have put anything in its place.
    fn program(&self, step: &OwnStep) -> Result<PathBuf, String> {
        let path = self.dir.join(&step.program);
        for path in [&self.dir, &path] {
            let seen = std::fs::symlink_metadata(path).map_err(|e| match e.kind() {
                io::ErrorKind::NotFound => format!("{} is not there", path.display()),
                _ => format!("{}: {e}", path.display()),
            })?;
            let ours = [0, geteuid().as_raw()].contains(&seen.uid());
            let remedy = format!(
                "have {} belong to root or to the daemon's user, writable for nobody else",
                path.display()
            );
            if !ours || seen.mode() & 0o022 != 0 {
                return Err(remedy);
            }
        }
        let seen = std::fs::symlink_metadata(&path).map_err(|e| e.to_string())?;
        if !seen.is_file() || seen.mode() & 0o111 == 0 {
            return Err(format!("{} is no program", path.display()));
        }
        Ok(path)
    }
}

/// The user and group to become; none: it stays the daemon's.
fn as_user(step: &OwnStep) -> Result<Option<(u32, u32)>, String> {
    let Some(user) = &step.user else {
        return Ok(None);
    };
    let ids = ids_of(user).ok_or_else(|| format!("there is no user `{user}` on this host"))?;
    if ids.0 == geteuid().as_raw() {
        return Ok(None);
    }
    if !geteuid().is_root() {
        return Err(format!("only root can run it as `{user}`"));
    }
    Ok(Some(ids))
}

async fn end(mut child: Child, mut said: Receiver, limit: Duration, output: &mut Vec<u8>) -> Ended {
    let leader = child.id().and_then(|id| Pid::from_raw(id.cast_signed()));
    let group = Group(leader);
    let deadline = tokio::time::Instant::now() + limit;
    let mut buffer = vec![0; 16_384];
    let mut open = true;
    let status = loop {
        tokio::select! {
            biased;
            status = child.wait() => break Some(status),
            () = tokio::time::sleep_until(deadline) => break None,
            read = said.read(&mut buffer), if open => open = take(read, &buffer, output),
        }
    };
    if status.is_none() {
        drop(group);
        // Its first process is ended with the rest, and reaped.
        let _ = child.wait().await;
    }
    let last = async {
        while open {
            let read = said.read(&mut buffer).await;
            open = take(read, &buffer, output);
        }
    };
    let _ = tokio::time::timeout(LAST_WORDS, last).await;
    match status {
        None => Ended::Late,
        Some(Err(error)) => Ended::NotBegun(error.to_string()),
        Some(Ok(status)) => ended(status),
    }
}

fn ended(status: ExitStatus) -> Ended {
    match (status.code(), status.signal()) {
        (Some(code), _) => Ended::Exit(code),
        (None, signal) => Ended::Signal(signal.unwrap_or_default()),
    }
}

/// Keeps the end of what was read; whether more may come.
fn take(read: io::Result<usize>, buffer: &[u8], output: &mut Vec<u8>) -> bool {
    let Ok(count @ 1..) = read else { return false };
    output.extend_from_slice(&buffer[..count]);
    let over = output.len().saturating_sub(2 * Ran::MOST_OUTPUT);
    output.drain(..over);
    true
}

/// As text that goes onto screens and into the record.
fn last_of(output: &[u8]) -> String {
    let text = String::from_utf8_lossy(output);
    let plain = |c: char| if c.is_control() && c != '\n' { ' ' } else { c };
    let text: String = text.trim_end().chars().map(plain).collect();
    let from = text.len().saturating_sub(Ran::MOST_OUTPUT);
    let from = (from..=text.len()).find(|at| text.is_char_boundary(*at));
    text[from.unwrap_or(0)..].to_string()
}
