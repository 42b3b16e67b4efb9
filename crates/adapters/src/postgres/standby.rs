//! What is done on a standby: following somebody else, and saying how far it is for good.

use super::config::IMPOSSIBLE;
use super::primary::Nudges;
use super::probe::lsn;
use super::{Postgres, Result, STREAM_POLL, until, until_every};
use karst_core::NodeId;
use karst_core::ids::Lsn;
use std::time::Duration;

const SETTLE_LIMIT: Duration = Duration::from_secs(5);
const REPOINT_LIMIT: Duration = Duration::from_secs(5);

impl Postgres {
    /// Stops receiving, lets replay drain, and reports the final position (D6).
    pub(super) async fn settle(&self) -> Result<(u32, Lsn)> {
        self.write_settings(None, IMPOSSIBLE)?;
        self.remember(|m| m.upstream = None);
        self.reload().await?;
        until("the end of streaming", SETTLE_LIMIT, || async {
            self.value::<bool>("select not exists (select from pg_stat_wal_receiver where pid is not null)").await
        })
        .await?;
        // Whoever lost its stream in the middle of a record waits before it looks at what it has: up to 1.4 s were seen.
        let mut nudges = Nudges::of(self.replayer().await?);
        let drained = "select coalesce(pg_last_wal_replay_lsn() >= pg_last_wal_receive_lsn(), true)";
        until("replay", SETTLE_LIMIT, || {
            nudges.next();
            async { self.value::<bool>(drained).await }
        })
        .await?;
        let query = "select greatest(pg_last_wal_receive_lsn(), pg_last_wal_replay_lsn())::text as at,
                            (select timeline_id from pg_control_checkpoint()) as timeline";
        let row = sqlx::query(query).fetch_one(&self.pool).await?;
        let timeline = sqlx::Row::try_get::<i32, _>(&row, "timeline")?.unsigned_abs();
        Ok((self.remember(|m| m.timeline).max(timeline), lsn(&row, "at")))
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
        until_every(STREAM_POLL, "streaming", REPOINT_LIMIT, || {
            // D13: the first acknowledged write of the new primary waits for this.
            nudges.next();
            async move {
                let row = sqlx::query(streams).bind(port).bind(host).fetch_one(pool).await?;
                Ok(sqlx::Row::try_get::<bool, _>(&row, 0)?)
            }
        })
        .await?;
        self.remember(|m| m.upstream = Some(upstream));
        Ok(())
    }
}
