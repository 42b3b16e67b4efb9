//! What is done on a standby: following somebody else, and saying how far it is for good.

use super::config::IMPOSSIBLE;
use super::keeper::{Postgres, STREAM_POLL};
use super::lsn::Lsn;
use super::primary::Nudges;
use super::probe::{known, lsn};
use crate::host::{handle_of, is_alive};
use crate::trouble::{POLL, Result, within};
use karst_core::{NodeId, Position};
use rustix::process::Pid;
use sqlx::Row;
use std::os::fd::OwnedFd;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// A primary that dies may have sent the beginning of a record: its log is written by the page.
/// After so many nudges without another record there is none.
const BROKEN_OFF: Duration = Duration::from_millis(40);
/// How long after the process that replays the log the others of a standby are told of its new
/// upstream.
const OTHERS_TOLD: Duration = Duration::from_secs(1);
const SETTLE_LIMIT: Duration = Duration::from_secs(5);
const REPOINT_LIMIT: Duration = Duration::from_secs(5);

/// How far a standby has replayed.
struct Replay {
    at: Lsn,
    timeline: u32,
    /// It has a connection to its upstream.
    receives: bool,
    /// Everything that was received is replayed.
    is_complete: bool,
    /// Whoever replays has nothing to do.
    waits: bool,
}

impl Postgres {
    /// Stops receiving, lets replay drain, and reports the final position (D6). If that is where a
    /// clean stop ended the log, its upstream has stopped sending by itself, and what follows it
    /// does not wait for a reload.
    pub(super) async fn settle_at(&self, enough: Option<Lsn>) -> Result<Position> {
        self.remember(|m| m.upstream = None);
        if let Some(end) = enough
            && let Some(replay) = Some(self.replay().await?).filter(|replay| replay.at >= end)
        {
            return Ok(replay.at.on(replay.timeline));
        }
        self.write_settings(None, IMPOSSIBLE)?;
        // Whoever lost its stream in the middle of a record waits before it looks at what it has:
        // up to 1.4 s were seen.
        let mut nudges = self.tell_replayer().await?;
        within("the end of streaming and of replay", SETTLE_LIMIT, async {
            let (mut before, mut since) = (None, Instant::now());
            loop {
                nudges.next();
                let replay = self.replay().await?;
                let now = (!replay.receives).then_some(replay.at);
                if now != before {
                    (before, since) = (now, Instant::now());
                } else if now.is_some() {
                    // Twice the same: whoever replays may not have read yet that it has nobody to
                    // follow. The beginning of a record is nothing that could be replayed: nudged
                    // again and again, it still has nothing to do.
                    let broken_off = replay.waits && since.elapsed() >= BROKEN_OFF;
                    if replay.is_complete || broken_off {
                        return Ok(replay.at.on(replay.timeline));
                    }
                }
                tokio::time::sleep(POLL).await;
            }
        })
        .await
    }

    /// One look for all of it: a new primary waits for this.
    async fn replay(&self) -> Result<Replay> {
        let look = "with here as (select pg_last_wal_replay_lsn() as at, pg_last_wal_receive_lsn() as received)
                    select at::text, coalesce(at >= received, true) as is_complete,
                           exists (select from pg_stat_wal_receiver where pid is not null) as receives,
                           case when at < received then
                             (select wait_event in ('RecoveryRetrieveRetryInterval', 'RecoveryWalStream')
                              from pg_stat_activity where backend_type = 'startup') end as waits,
                           (select timeline_id from pg_control_checkpoint()) as timeline
                    from here";
        let row = sqlx::query(look).fetch_one(&self.pool).await?;
        Ok(Replay {
            at: known(lsn(&row, "at")?, "how far it has replayed")?,
            timeline: row
                .try_get::<i32, _>("timeline")?
                .unsigned_abs()
                .max(self.remember(|m| m.timeline)),
            receives: row.try_get("receives")?,
            is_complete: row.try_get("is_complete")?,
            waits: row.try_get::<Option<bool>, _>("waits")?.unwrap_or(false),
        })
    }

    /// A handle to the process that replays a standby's log; none if there is none any more.
    /// Remembered: asked for at each move, it would cost that some milliseconds.
    pub(super) async fn replayer(&self) -> Result<Option<Arc<OwnedFd>>> {
        if let Some(replayer) = self.remember(|m| m.replayer.clone()).filter(is_alive) {
            return Ok(Some(replayer));
        }
        let query = "select pid from pg_stat_activity where backend_type = 'startup'";
        let pid: Option<i32> = sqlx::query_scalar(query).fetch_optional(&self.pool).await?;
        let handle = pid.and_then(Pid::from_raw).and_then(handle_of);
        self.remember(|m| m.replayer.clone_from(&handle));
        Ok(handle)
    }

    /// Has the process that replays the log read what was written, and for now it alone: at each
    /// reload the first process makes its TLS context anew, and the server's other processes read
    /// all settings, just when somebody waits for this one.
    async fn tell_replayer(&self) -> Result<Nudges> {
        let replayer = self.replayer().await?;
        if replayer.is_none() {
            self.reload().await?;
        } else {
            self.remember(|m| m.others_behind = Some(Instant::now()));
        }
        Ok(Nudges::of(replayer))
    }

    /// Tells the other processes, once nobody waits any more.
    pub(super) async fn tell_others(&self) -> Result<()> {
        match self.remember(|m| m.others_behind) {
            Some(since) if since.elapsed() >= OTHERS_TOLD => self.reload().await,
            _ => Ok(()),
        }
    }

    /// Follows `upstream`, and returns when it streams.
    pub(super) async fn follow(&self, upstream: NodeId) -> Result<()> {
        self.write_settings(Some(&upstream), IMPOSSIBLE)?;
        let streams = "select exists (select from pg_stat_wal_receiver where status = 'streaming' and sender_port = $1
                       and sender_host = $2)";
        let port = self
            .host
            .site
            .replicas
            .get(&upstream)
            .map_or(0, |a| i32::from(a.port()));
        // It is named by whose certificate it shows.
        let (host, pool) = (upstream.as_str(), &self.pool);
        let mut nudges = self.tell_replayer().await?;
        within("streaming", REPOINT_LIMIT, async {
            loop {
                // D13: the first acknowledged write of the new primary waits for this.
                nudges.next();
                let row = sqlx::query(streams)
                    .bind(port)
                    .bind(host)
                    .fetch_one(pool)
                    .await?;
                if row.try_get::<bool, _>(0)? {
                    return Ok(());
                }
                tokio::time::sleep(STREAM_POLL).await;
            }
        })
        .await?;
        self.remember(|m| m.upstream = Some(upstream));
        Ok(())
    }
}
