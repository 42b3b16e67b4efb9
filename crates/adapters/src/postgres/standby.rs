//! What is done on a standby: following somebody else, and saying how far it is for good.

use super::config::IMPOSSIBLE;
use super::primary::Nudges;
use super::probe::lsn;
use super::{POLL, Postgres, Result, STREAM_POLL, within};
use karst_core::NodeId;
use karst_core::ids::Lsn;
use sqlx::Row;
use std::time::Duration;

const SETTLE_LIMIT: Duration = Duration::from_secs(5);
const REPOINT_LIMIT: Duration = Duration::from_secs(5);

/// What a standby has, all of it replayed.
#[derive(Clone, Copy, PartialEq)]
struct Last {
    receives: bool,
    at: Lsn,
    timeline: u32,
}

impl Postgres {
    /// Stops receiving, lets replay drain, and reports the final position (D6). If that is where a clean stop ended the log, its
    /// upstream has stopped sending by itself, and what follows it does not wait for a reload.
    pub(super) async fn settle(&self, enough: Option<Lsn>) -> Result<(u32, Lsn)> {
        self.remember(|m| m.upstream = None);
        if let Some(end) = enough
            && let Some(last) = self.replayed().await?.filter(|last| last.at >= end)
        {
            return Ok((last.timeline, last.at));
        }
        self.write_settings(None, IMPOSSIBLE)?;
        self.reload().await?;
        // Whoever lost its stream in the middle of a record waits before it looks at what it has: up to 1.4 s were seen.
        let mut nudges = Nudges::of(self.replayer().await?);
        within("the end of streaming and of replay", SETTLE_LIMIT, async {
            let mut before = None;
            loop {
                nudges.next();
                let now = self.replayed().await?.filter(|last| !last.receives);
                // Twice the same: whoever replays may not have read yet that it has nobody to follow.
                if let Some(last) = now.filter(|_| now == before) {
                    return Ok((last.timeline, last.at));
                }
                before = now;
                tokio::time::sleep(POLL).await;
            }
        })
        .await
    }

    /// How far it is, once everything that was received is replayed. One look for all of it: a new primary waits for this.
    async fn replayed(&self) -> Result<Option<Last>> {
        let look = "select coalesce(pg_last_wal_replay_lsn() >= pg_last_wal_receive_lsn(), true) as drained,
                           exists (select from pg_stat_wal_receiver where pid is not null) as receives,
                           greatest(pg_last_wal_receive_lsn(), pg_last_wal_replay_lsn())::text as at,
                           (select timeline_id from pg_control_checkpoint()) as timeline";
        let row = sqlx::query(look).fetch_one(&self.pool).await?;
        let timeline = row.try_get::<i32, _>("timeline")?.unsigned_abs().max(self.remember(|m| m.timeline));
        let last = Last { receives: row.try_get("receives")?, at: lsn(&row, "at"), timeline };
        Ok(row.try_get::<bool, _>("drained")?.then_some(last))
    }

    /// Follows `upstream`, and returns when it streams.
    pub(super) async fn repoint(&self, upstream: NodeId) -> Result<()> {
        self.write_settings(Some(&upstream), IMPOSSIBLE)?;
        self.reload().await?;
        let streams = "select exists (select from pg_stat_wal_receiver where status = 'streaming' and sender_port = $1
                       and sender_host = $2)";
        let address = self.plan.replicas.get(&upstream).copied();
        let (host, port) = address.map_or((String::new(), 0), |a| (a.ip().to_string(), i32::from(a.port())));
        let (host, pool) = (&host, &self.pool);
        let mut nudges = Nudges::of(self.replayer().await?);
        within("streaming", REPOINT_LIMIT, async {
            loop {
                // D13: the first acknowledged write of the new primary waits for this.
                nudges.next();
                let row = sqlx::query(streams).bind(port).bind(host).fetch_one(pool).await?;
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
