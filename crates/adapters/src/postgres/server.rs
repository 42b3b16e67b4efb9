//! Starting and stopping the server process, and its programs.

use super::config::{IMPOSSIBLE, REPLICATION_ROLE, quoted};
use super::words::{Life, reason};
use super::{Postgres, Result, Trouble, scram, until};
use crate::process;
use karst_core::replica::Copied;
use karst_core::{Lsn, NodeId};
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::process::{Pid, PidfdFlags, Signal, pidfd_open, pidfd_send_signal};
use std::collections::VecDeque;
use std::io::{Read as _, Seek as _, SeekFrom};
use std::os::fd::OwnedFd;
use std::path::PathBuf;
use std::process::{Output, Stdio};
use std::sync::Arc;
use std::time::Duration;
use tokio::io::{AsyncBufReadExt, BufReader};
use tokio::process::Command;

/// How long a start may take, crash recovery included.
const START_LIMIT: Duration = Duration::from_secs(120);
/// Of new data. A promotion copies and syncs the segment it is in, and a standby that follows is
/// sent it from its beginning: with the usual 16 MB that is half of the time until the first
/// replicated write. Smaller ones would have a busy server sync too often.
const WAL_SEGMENT_MB: u32 = 4;
/// So much of its log is looked through for the reason of its end.
const LAST_WORDS: u64 = 8192;
const NOW: Timespec = Timespec {
    tv_sec: 0,
    tv_nsec: 0,
};
/// How long ending all processes may take before it is reported as trouble.
const END_LIMIT: Duration = Duration::from_secs(10);

impl Postgres {
    /// A server program, run as the server's user, with nothing of Karst's environment.
    pub(super) fn program(&self, name: &str) -> Command {
        self.launched(&self.plan.launcher, name)
    }

    fn launched(&self, launcher: &[String], name: &str) -> Command {
        let program = self.plan.programs.join(name);
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
            .env("LC_ALL", "C.UTF-8")
            .env("PGPASSFILE", self.plan.passfile());
        command.stdin(Stdio::null()).current_dir("/");
        command
    }

    pub(super) async fn run(&self, mut command: Command, name: &str) -> Result<Output> {
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
                match copied(&line) {
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

    /// The first data of a workload. The data directory appears when it is complete, so that a try
    /// that was cut short leaves either nothing or a whole server.
    pub(super) async fn create(&self) -> Result<()> {
        let data = &self.plan.data;
        let files = self.files();
        if !files
            .exists(&data.join("PG_VERSION"))
            .map_err(Trouble::io(data.display().to_string()))?
        {
            let fresh = self.beside("new");
            files
                .make_dir(&fresh)
                .map_err(Trouble::io(fresh.display().to_string()))?;
            let mut initdb = self.program("initdb");
            initdb.args([
                "--username=postgres",
                "--auth=trust",
                "--data-checksums",
                "--encoding=UTF8",
                "--no-instructions",
            ]);
            initdb
                .arg("--locale=C.UTF-8")
                .arg(format!("--wal-segsize={WAL_SEGMENT_MB}"))
                .arg("-D")
                .arg(&fresh);
            if let Some(log) = self.fresh_log()? {
                initdb.arg("--waldir").arg(log);
            }
            self.run(initdb, "initdb").await?;
            files
                .rename(&fresh, data)
                .map_err(Trouble::io(data.display().to_string()))?;
        }
        if self.nothing_runs()? {
            self.start_primary().await?;
        }
        self.make_roles().await
    }

    /// The roles and the database of a new workload, each where it is missing. Local commits:
    /// nobody can confirm them yet.
    async fn make_roles(&self) -> Result<()> {
        let mut script = String::from(
            "begin; set local synchronous_commit = local; set local log_min_error_statement = panic;
             create schema if not exists karst;
             create table if not exists karst.pulse
                 (node text primary key, at timestamptz not null default now(), count bigint not null default 0);",
        );
        // A server may log a statement that fails: it never sees a password, but what it is to keep
        // of it.
        let client = self
            .plan
            .database
            .as_ref()
            .map(|(_, client, password)| (client.as_str(), "login", password));
        let standbys = (
            REPLICATION_ROLE,
            "login replication",
            &self.plan.replication_password,
        );
        for (name, rights, password) in client.into_iter().chain([standbys]) {
            let iterations = if name == REPLICATION_ROLE {
                scram::OF_STANDBYS
            } else {
                scram::OF_CLIENTS
            };
            let kept = scram::verifier(password, rand::random(), iterations)?;
            script += &format!(
                "do $karst$ begin if not exists (select from pg_roles where rolname = {}) then
                     create role {name} {rights} password {}; end if; end $karst$;",
                quoted(name),
                quoted(&kept)
            );
        }
        // What a rewind reads, and the checkpoint that it needs first (D11; manual, pg_rewind).
        script += &format!(
            "grant execute on function pg_ls_dir(text, boolean, boolean), pg_stat_file(text, boolean),
                 pg_read_binary_file(text), pg_read_binary_file(text, bigint, bigint, boolean) to {REPLICATION_ROLE};
             grant pg_checkpoint to {REPLICATION_ROLE}; commit;"
        );
        sqlx::raw_sql(&script).execute(&self.pool).await?;
        let Some((database, client, _)) = &self.plan.database else {
            return Ok(());
        };
        let there = sqlx::query("select from pg_database where datname = $1").bind(database);
        if there.fetch_optional(&self.pool).await?.is_none() {
            let create = format!("create database {database} owner {client}");
            let mut connection = self.pool.acquire().await?;
            sqlx::query("set synchronous_commit = local")
                .execute(&mut *connection)
                .await?;
            sqlx::query(&create).execute(&mut *connection).await?;
            sqlx::query("reset synchronous_commit")
                .execute(&mut *connection)
                .await?;
        }
        Ok(())
    }

    pub(super) async fn start_primary(&self) -> Result<()> {
        let signal = self.plan.data.join("standby.signal");
        if self
            .files()
            .exists(&signal)
            .map_err(Trouble::io(signal.display().to_string()))?
        {
            return Err(Trouble::Wrong(format!(
                "{} is set up as a standby",
                self.plan.data.display()
            )));
        }
        self.start(None).await
    }

    pub(super) async fn start_standby(&self, upstream: NodeId) -> Result<()> {
        let signal = self.plan.data.join("standby.signal");
        self.files()
            .put(&signal, b"", false)
            .map_err(Trouble::io(signal.display().to_string()))?;
        // A server that is started while its upstream is unknown follows nobody until it is told.
        let upstream = Some(upstream).filter(|u| *u != self.plan.me);
        self.start(upstream).await
    }

    async fn start(&self, upstream: Option<NodeId>) -> Result<()> {
        if !self.nothing_runs()? {
            return Err(Trouble::Wrong(
                "something of the server runs already".into(),
            ));
        }
        let mark = self.plan.data.join(super::rewind::MARK);
        if self
            .files()
            .exists(&mark)
            .map_err(Trouble::io(mark.display().to_string()))?
        {
            return Err(Trouble::Wrong(
                "its data are half rewound: a clone has to replace them".into(),
            ));
        }
        self.remember(|m| {
            *m = super::Memory {
                upstream: upstream.clone(),
                ..Default::default()
            }
        });
        self.write_passfile()?;
        self.write_settings(upstream.as_ref(), IMPOSSIBLE)?;
        self.write_include()?;
        let process_file = self.plan.data.join("postmaster.pid");
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
            .plan
            .processes
            .entry()
            .map_err(Trouble::io("the cgroup of the workload"))?;
        launcher.extend(self.plan.launcher.iter().cloned());
        let mut command = self.launched(&launcher, "postgres");
        command
            .arg("-D")
            .arg(&self.plan.data)
            .stdout(out)
            .stderr(err)
            .process_group(0);
        // The server outlives this daemon: it is the deadman that bounds its life (C6).
        let mut child = command
            .kill_on_drop(false)
            .spawn()
            .map_err(Trouble::io("postgres"))?;
        process::at_ordinary_priority(&child);
        until("the start", START_LIMIT, || {
            let exited = child.try_wait();
            async move {
                if let Ok(Some(status)) = exited {
                    let why = self
                        .last_words(Life::NeverUp)
                        .map_or(String::new(), |why| format!("; {why}"));
                    let output =
                        format!("{status}{why}; its log is {}", self.own_words().display());
                    return Err(Trouble::Program {
                        program: "postgres".into(),
                        output,
                    });
                }
                Ok(self
                    .value::<bool>("select pg_is_in_recovery()")
                    .await
                    .is_ok())
            }
        })
        .await?;
        tokio::spawn(async move {
            let _ = child.wait().await;
        });
        Ok(())
    }

    /// The file that the server's messages go to.
    fn own_words(&self) -> PathBuf {
        self.beside("log")
    }

    /// What a server that has ended said of the reason, if it did.
    pub(super) fn last_words(&self, life: Life) -> Option<String> {
        let mut log = self.files().open(&self.own_words()).ok()?;
        let length = log.metadata().ok()?.len();
        log.seek(SeekFrom::Start(length.saturating_sub(LAST_WORDS)))
            .ok()?;
        let mut tail = Vec::new();
        log.take(LAST_WORDS).read_to_end(&mut tail).ok()?;
        reason(&String::from_utf8_lossy(&tail), life)
    }

    /// The first process of the running server.
    pub(super) fn postmaster(&self) -> Option<Pid> {
        let file = self
            .files()
            .read_text(&self.plan.data.join("postmaster.pid"))
            .ok()?;
        let pid = file.lines().next()?.trim().parse().ok()?;
        // Numbers repeat: believe the file only if such a process works in the data directory.
        self.plan
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
    pub(super) fn nothing_runs(&self) -> Result<bool> {
        let listed = self
            .plan
            .processes
            .list()
            .map_err(Trouble::io("the server's processes"))?;
        Ok(listed.is_empty())
    }

    /// A handle to the first process of the running server, which cannot come to mean another one.
    pub(super) fn first(&self) -> Option<Arc<OwnedFd>> {
        if let Some(first) = self
            .remember(|m| m.first.clone())
            .filter(|fd| !exits_within(fd, &NOW))
        {
            return Some(first);
        }
        let first = self
            .postmaster()
            .and_then(|pid| pidfd_open(pid, PidfdFlags::empty()).ok())
            .map(Arc::new);
        if first.is_some() {
            self.remember(|m| m.first.clone_from(&first));
        }
        first
    }

    /// A handle to the process that replays a standby's log; none if there is none any more.
    /// Remembered: asked for at each move, it would cost that some milliseconds.
    pub(super) async fn replayer(&self) -> Result<Option<Arc<OwnedFd>>> {
        if let Some(replayer) = self
            .remember(|m| m.replayer.clone())
            .filter(|fd| !exits_within(fd, &NOW))
        {
            return Ok(Some(replayer));
        }
        let query = "select pid from pg_stat_activity where backend_type = 'startup'";
        let pid: Option<i32> = sqlx::query_scalar(query).fetch_optional(&self.pool).await?;
        let handle = pid
            .and_then(Pid::from_raw)
            .and_then(|pid| pidfd_open(pid, PidfdFlags::empty()).ok())
            .map(Arc::new);
        self.remember(|m| m.replayer.clone_from(&handle));
        Ok(handle)
    }

    /// It had a first process, which has exited, and has no other yet.
    pub(super) fn has_lost_first(&self) -> bool {
        self.remember(|m| m.first.clone())
            .is_some_and(|fd| exits_within(&fd, &NOW))
    }

    /// Waits until the server's first process exits; for ever while none runs.
    pub async fn exited(&self) {
        match self.first() {
            Some(fd) => exit_of(fd).await,
            None => std::future::pending().await,
        }
    }

    /// Ends what a server whose first process has exited left behind (C1).
    pub async fn end_rest(&self) {
        if let Err(error) = self.end_all().await {
            tracing::error!(%error, "what the server left behind is still there");
        }
    }

    async fn end_all(&self) -> Result<()> {
        let processes = self.plan.processes.clone();
        let ended = tokio::task::spawn_blocking(move || processes.end_all(END_LIMIT)).await;
        ended
            .map_err(|e| Trouble::Wrong(e.to_string()))?
            .map(drop)
            .map_err(Trouble::io("ending the server's processes"))
    }

    pub(super) async fn stop_now(&self) -> Result<()> {
        self.end_all().await
    }

    /// A fast stop; what it leaves after the limit is ended. The end of the log if the stop was
    /// clean.
    pub(super) async fn stop_clean(&self, limit: Duration) -> Result<Option<Lsn>> {
        if let Some(first) = self.first() {
            pidfd_send_signal(&*first, Signal::INT)
                .map_err(|e| Trouble::io("the stop signal")(e.into()))?;
            let _ = tokio::time::timeout(limit, exit_of(first)).await;
        }
        let mut control = self.program("pg_controldata");
        control.arg("-D").arg(&self.plan.data);
        // A server that stopped cleanly wrote so before its first process ended.
        let (ended, output) = tokio::join!(self.end_all(), self.run(control, "pg_controldata"));
        ended?;
        Ok(clean_end(&String::from_utf8_lossy(&output?.stdout)))
    }
}

/// Returns when the process of a pidfd has exited, without a poll interval in between. Dropping it
/// leaves a thread for a second at most.
async fn exit_of(fd: Arc<OwnedFd>) {
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

/// One byte into the last record of a cleanly stopped server: whoever is past it has the record.
fn clean_end(control: &str) -> Option<Lsn> {
    let field = |name: &str| {
        control
            .lines()
            .find_map(|l| l.strip_prefix(name))
            .map(str::trim)
    };
    let clean = matches!(
        field("Database cluster state:")?,
        "shut down" | "shut down in recovery"
    );
    let at = Lsn::parse(field("Latest checkpoint location:")?)?;
    clean.then_some(Lsn(at.0 + 1))
}

/// How far a program is, for as long as it runs: one that is abandoned says nothing more either.
struct Far<'a>(&'a Postgres);

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

/// A line of progress, as pg_basebackup and pg_rewind write it with `--progress`: `  2048/8192 kB
/// (25%) copied`.
fn copied(line: &str) -> Option<Copied> {
    let (numbers, _) = line.trim_start().split_once(" kB (")?;
    let (done, total) = numbers.split_once('/')?;
    let bytes = |kilobytes: &str| kilobytes.trim().parse::<u64>().ok()?.checked_mul(1024);
    Some(Copied {
        done: bytes(done)?,
        total: bytes(total)?,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_a_clean_stop_has_an_end() {
        let control = |state: &str| {
            format!(
                "Database cluster state:               {state}\nLatest checkpoint location:           0/3000028\n"
            )
        };
        assert_eq!(clean_end(&control("shut down")), Some(Lsn(0x300_0029)));
        assert_eq!(clean_end(&control("in production")), None);
        assert_eq!(clean_end("nonsense"), None);
    }

    #[test]
    fn progress_is_told_from_what_went_wrong() {
        let far = Some(Copied {
            done: 2 << 20,
            total: 8 << 20,
        });
        assert_eq!(copied("   2048/8192 kB (25%) copied"), far);
        assert_eq!(copied(" 2048/8192 kB (25%), 0/1 tablespace"), far);
        assert_eq!(
            copied("pg_rewind: error: could not connect to server"),
            None
        );
    }
}
