//! What is done on a primary, or to make one: promotion and the synchronous setting.

use super::config::IMPOSSIBLE;
use super::keeper::{Postgres, STREAM_POLL};
use super::lsn::{self, Lsn};
use super::probe::lsn as position;
use crate::trouble::{POLL, Result, Trouble, patiently, within};
use karst_core::replica::{Promotion, SyncSetting};
use karst_core::{History, NodeId, SwitchPoint};
use rustix::process::{Signal, pidfd_send_signal};
use sqlx::pool::PoolConnection;
use sqlx::{Executor as _, PgConnection, Row};
use std::collections::BTreeMap;
use std::os::fd::OwnedFd;
use std::sync::Arc;
use std::time::{Duration, Instant};

const PROMOTE_LIMIT: Duration = Duration::from_secs(30);
/// How long the members of a sync set may take to be there; the coordinator changes the set long
/// before.
const SYNC_LIMIT: Duration = Duration::from_secs(60);

/// A server that has not taken a setting up after so long is said to, and it is tried again.
const CANARY_LIMIT: Duration = Duration::from_secs(2);

/// The streaming standbys: priority in the synchronous setting, and flushed position.
type Members = BTreeMap<String, (i32, Lsn)>;

impl Postgres {
    /// A configuration reload. Sent to the first process itself: a query would cost a busy host
    /// more than the signal.
    pub(super) async fn reload(&self) -> Result<()> {
        self.remember(|m| m.others_behind = None);
        self.host.signal(Signal::HUP, "the reload signal")
    }

    /// Ends recovery if it has not ended, and says which timeline this is and where it began (D10).
    pub(super) async fn end_recovery(&self, after: Option<&History>) -> Result<Promotion> {
        let replayer = patiently(|| self.replayer()).await?;
        let mut nudges = Nudges::of(replayer);
        let promote = "select case when pg_is_in_recovery() then pg_promote(false) end";
        patiently(|| self.sql(promote)).await?;
        let place = "select case when not pg_is_in_recovery() then
                         pg_walfile_name(pg_current_wal_insert_lsn()) || ' ' || pg_current_wal_insert_lsn() end";
        let place = within("the promotion", PROMOTE_LIMIT, async {
            loop {
                nudges.next();
                if let Some(place) = self.value::<Option<String>>(place).await? {
                    return Ok(place);
                }
                tokio::time::sleep(POLL).await;
            }
        })
        .await?;
        self.remember(|m| {
            (m.upstream, m.can_write, m.write_failures, m.sync) = (None, None, 0, (0, 0));
            // Its clients come first.
            m.write_probed = Some(Instant::now());
        });
        // Before anybody is told of the promotion: from the first client on no commit returns alone
        // (D4).
        patiently(|| self.prove_that_commits_wait()).await?;
        let timeline = place.get(..8).and_then(|t| u32::from_str_radix(t, 16).ok());
        let at = place.split_once(' ').and_then(|(_, at)| Lsn::parse(at));
        let (timeline, at) = timeline
            .zip(at)
            .ok_or_else(|| Trouble::Wrong(format!("not a log file and a position: {place}")))?;
        let switch = patiently(|| std::future::ready(self.switch_point(timeline))).await?;
        let (parent, began) = switch.unzip();
        Ok(Promotion {
            point: SwitchPoint {
                history: lsn::name(timeline),
                parent: parent.map(lsn::name),
                began: began.map_or(0, |began| began.0),
                writes_from: at.0,
            },
            unique: lsn::is_unique(timeline, after),
        })
    }

    /// From which timeline another one went on and where, from its history file; the first has none.
    fn switch_point(&self, timeline: u32) -> Result<Option<(u32, Lsn)>> {
        if timeline <= 1 {
            return Ok(None);
        }
        let path = self
            .host
            .site
            .data
            .join(format!("pg_wal/{timeline:08X}.history"));
        let text = self
            .host
            .files()
            .read_text(&path)
            .map_err(Trouble::io(path.display().to_string()))?;
        let no_switch =
            || Trouble::Wrong(format!("{} does not end in a switch point", path.display()));
        parse_switch(&text).map(Some).ok_or_else(no_switch)
    }

    /// Makes commits wait for these standbys, all of them (D1), and returns when each has
    /// everything written so far.
    pub(super) async fn wait_for(&self, setting: SyncSetting) -> Result<()> {
        let SyncSetting {
            standbys,
            unprotected,
            ..
        } = setting;
        let number = (setting.epoch.0, setting.number);
        let newest = self.remember(|m| m.sync);
        if number < newest {
            return Err(Trouble::Wrong(format!(
                "setting {number:?} is older than {newest:?}, which is in force"
            )));
        }
        let alone = standbys.is_empty() && unprotected;
        self.remember(|m| {
            m.sync = number;
            m.commits_wait &= !alone;
        });
        if !alone {
            self.prove_that_commits_wait().await?;
        }
        let names: Vec<String> = standbys.iter().map(|n| format!("\"{n}\"")).collect();
        let setting = match (standbys.is_empty(), unprotected) {
            (true, true) => String::new(),
            (true, false) => IMPOSSIBLE.to_string(),
            (false, _) => format!("FIRST {} ({})", names.len(), names.join(", ")),
        };
        self.write_settings(None, &setting)?;
        self.reload().await?;
        if standbys.is_empty() {
            return Ok(());
        }
        // `SHOW` would prove one backend only; that every member's priority is its place in the new
        // list proves that the senders, who let commits return, have read it (D2). One connection
        // for all of it: another one would be another server process, just when the clients come
        // back.
        let mut connection = self.pool.acquire().await?;
        within("the sync set", SYNC_LIMIT, async {
            let place = |n: &NodeId| {
                standbys
                    .iter()
                    .position(|m| m == n)
                    .map_or(0, |i| i as i32 + 1)
            };
            let listed = |members: Members| {
                standbys.iter().all(|n| {
                    members
                        .get(n.as_str())
                        .is_some_and(|(priority, _)| *priority == place(n))
                })
            };
            while !listed(members(&mut connection).await?) {
                tokio::time::sleep(STREAM_POLL).await;
            }
            let barrier = self.pulse(&mut connection).await?;
            let caught_up = |members: Members| {
                standbys.iter().all(|n| {
                    members
                        .get(n.as_str())
                        .is_some_and(|(_, flushed)| *flushed >= barrier)
                })
            };
            while !caught_up(members(&mut connection).await?) {
                tokio::time::sleep(STREAM_POLL).await;
            }
            Ok(())
        })
        .await
    }

    /// Whether commits wait at all is decided by the server's checkpointer, which takes a setting up
    /// when it gets to it; the senders' list proves nothing about that (D2, seen with one that stood
    /// still). From one setting that names somebody to the next it stays decided.
    async fn prove_that_commits_wait(&self) -> Result<()> {
        if self.remember(|m| m.commits_wait) {
            return Ok(());
        }
        // A client's commit that waits proves as much as one of Karst's own, and holds nobody up.
        if !self.is_any_commit_waiting().await? {
            self.see_a_commit_wait().await?;
        }
        self.remember(|m| m.commits_wait = true);
        Ok(())
    }

    async fn is_any_commit_waiting(&self) -> Result<bool> {
        let query = "select exists (select from pg_stat_activity where wait_event = 'SyncRep')";
        self.value::<bool>(query).await
    }

    /// Has a commit of its own wait for a standby that does not exist.
    async fn see_a_commit_wait(&self) -> Result<()> {
        let written = self.remember(|m| m.written_sync.as_ref().map(|(sync, _)| sync.clone()));
        if written.as_deref() != Some(IMPOSSIBLE) {
            self.write_settings(None, IMPOSSIBLE)?;
            self.reload().await?;
        }
        let mut canary = Canary::of(self.pool.acquire().await?);
        let pid: i32 = sqlx::query("select pg_backend_pid()")
            .fetch_one(&mut *canary.connection)
            .await?
            .try_get(0)?;
        let commit = self.waiting_pulse_script();
        let limit = tokio::time::sleep(CANARY_LIMIT);
        tokio::pin!(limit);
        let mut returned_alone = false;
        let seen = loop {
            let committing = canary.connection.execute(commit.as_str());
            tokio::pin!(committing);
            let over = tokio::select! {
                // The setting of before may not have been taken up yet: another try.
                returned = &mut committing => {
                    returned?;
                    returned_alone = true;
                    tokio::time::sleep(POLL).await;
                    continue;
                }
                seen = self.is_waiting(pid) => seen,
                () = &mut limit => Err(unproven(returned_alone)),
            };
            sqlx::query("select pg_cancel_backend($1)")
                .bind(pid)
                .execute(&self.pool)
                .await?;
            committing.await?;
            break over;
        };
        canary.is_idle = true;
        seen
    }

    /// Returns once that server process waits for a standby.
    async fn is_waiting(&self, pid: i32) -> Result<()> {
        let query =
            "select coalesce(wait_event = 'SyncRep', false) from pg_stat_activity where pid = $1";
        loop {
            let row = sqlx::query(query)
                .bind(pid)
                .fetch_optional(&self.pool)
                .await?;
            match row {
                Some(row) if row.try_get::<bool, _>(0)? => return Ok(()),
                _ => tokio::time::sleep(POLL).await,
            }
        }
    }
}

fn unproven(returned_alone: bool) -> Trouble {
    if returned_alone {
        let what = "commits return although no standby confirms them: the server has not taken the setting up";
        return Trouble::Wrong(what.into());
    }
    Trouble::Late {
        what: "a commit that waits",
        limit: CANARY_LIMIT,
    }
}

/// A connection whose commit may wait for ever: it is closed unless that is over.
struct Canary {
    connection: PoolConnection<sqlx::Postgres>,
    is_idle: bool,
}

impl Canary {
    fn of(connection: PoolConnection<sqlx::Postgres>) -> Self {
        Self {
            connection,
            is_idle: false,
        }
    }
}

impl Drop for Canary {
    fn drop(&mut self) {
        if !self.is_idle {
            self.connection.close_on_drop();
        }
    }
}

/// Wakes the process that replays the log again and again while something is waited for: it may be
/// waiting out a retry interval (D10), and takes one for each of the states that it goes through.
/// Each makes it read its settings again, so not more often than it helps. To that process alone: a
/// reload of the whole server would have each of its processes read them.
pub(super) struct Nudges {
    replayer: Option<Arc<OwnedFd>>,
    next: Instant,
}

impl Nudges {
    const EVERY: Duration = Duration::from_millis(10);

    pub(super) fn of(replayer: Option<Arc<OwnedFd>>) -> Self {
        Self {
            replayer,
            next: Instant::now(),
        }
    }

    /// Sends one if it is time.
    pub(super) fn next(&mut self) {
        if let Some(replayer) = self
            .replayer
            .as_ref()
            .filter(|_| self.next <= Instant::now())
        {
            self.next = Instant::now() + Self::EVERY;
            // Gone is as good as awake.
            let _ = pidfd_send_signal(&**replayer, Signal::HUP);
        }
    }
}

async fn members(connection: &mut PgConnection) -> Result<Members> {
    let query = "select application_name, sync_priority, flush_lsn::text as flushed
                 from pg_stat_replication where state = 'streaming'";
    let rows = sqlx::query(query).fetch_all(connection).await?;
    // One whose position is not known has nothing yet, as far as a barrier goes.
    rows.iter()
        .map(|r| {
            Ok((
                r.try_get(0)?,
                (r.try_get(1)?, position(r, "flushed")?.unwrap_or_default()),
            ))
        })
        .collect()
}

/// The last line of a history file names the parent timeline and the switch point (manual, section
/// 26.3.5).
fn parse_switch(history: &str) -> Option<(u32, Lsn)> {
    let last = history
        .lines()
        .rfind(|l| !l.trim().is_empty() && !l.starts_with('#'))?;
    let mut words = last.split_whitespace();
    let parent = words.next()?.parse().ok()?;
    Some((parent, Lsn::parse(words.next()?)?))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_last_switch_counts() {
        let history = "1\t0/3000148\tno recovery target specified\n\n2\t0/4000060\tno recovery target specified\n";
        assert_eq!(parse_switch(history), Some((2, Lsn(0x400_0060))));
        assert_eq!(parse_switch(""), None);
    }
}
