//! A point with a name in a primary's log, and a standby that goes up to it and stays
//! (manual, sections 9.28.3 and 20.5.5).

use super::keeper::Postgres;
use super::lsn::Lsn;
use super::probe::{known, lsn};
use crate::host::handle_of;
use crate::trouble::{POLL, Result, Trouble, within};
use karst_core::Position;
use karst_core::safetypoint::Mark;
use rustix::process::{Pid, Signal, pidfd_send_signal};
use sqlx::Row;
use std::time::Duration;

/// For the commit that follows the point, which whoever confirms writes has to have.
const MARK_LIMIT: Duration = Duration::from_secs(25);
/// A standby replays what was written since its last restart point, and everything since it stopped.
const GO_UP_LIMIT: Duration = Duration::from_secs(3_500);
const CUT_LIMIT: Duration = Duration::from_secs(10);

impl Postgres {
    pub(super) async fn write_point(&self, label: &str) -> Result<Position> {
        let point = "select pg_create_restore_point($1)::text as at,
                     ('x' || substr(pg_walfile_name(pg_current_wal_insert_lsn()), 1, 8))::bit(32)::int as timeline";
        let row = sqlx::query(point).bind(label).fetch_one(&self.pool).await?;
        let at = known(lsn(&row, "at")?, "where the point is")?;
        let timeline = row.try_get::<i32, _>("timeline")?.unsigned_abs();
        // Not local: once it returns, every standby that it waits for has the point as well.
        within("the commit after the point", MARK_LIMIT, async {
            let commit = "insert into karst.pulse (node, count) values ($1, 1)
                          on conflict (node) do update set at = now(), count = pulse.count + 1";
            let me = self.host.site.me.as_str();
            sqlx::query(commit).bind(me).execute(&self.pool).await?;
            Ok(())
        })
        .await?;
        Ok(at.on(timeline))
    }

    pub(super) async fn stay_at(&self, mark: &Mark) -> Result<()> {
        within("the point", GO_UP_LIMIT, async {
            while !self.is_at(mark).await? {
                tokio::time::sleep(POLL).await;
            }
            Ok(())
        })
        .await?;
        self.write_target(None, &mark.label)?;
        self.remember(|m| m.upstream = None);
        self.reload().await?;
        within("the end of streaming", CUT_LIMIT, self.end_receiver()).await
    }

    /// Whatever it goes on to receive it would keep on its disk and never use. Whoever replays looks
    /// at its settings again only when it needs more log, and so never: its receiver is ended, and
    /// no other is started.
    async fn end_receiver(&self) -> Result<()> {
        let receiver = "select pid from pg_stat_wal_receiver where pid is not null";
        loop {
            let pid: Option<i32> = sqlx::query_scalar(receiver)
                .fetch_optional(&self.pool)
                .await?;
            let Some(pid) = pid else { return Ok(()) };
            if let Some(process) = Pid::from_raw(pid).and_then(handle_of) {
                // Gone is as good as ended.
                let _ = pidfd_send_signal(&*process, Signal::TERM);
            }
            tokio::time::sleep(POLL).await;
        }
    }

    async fn is_at(&self, mark: &Mark) -> Result<bool> {
        let look = "select pg_get_wal_replay_pause_state() = 'paused' as paused, pg_last_wal_replay_lsn()::text as at,
                           current_setting('recovery_target_name') as label";
        let row = sqlx::query(look).fetch_one(&self.pool).await?;
        let label: String = row.try_get("label")?;
        if label != mark.label {
            return Err(Trouble::Wrong(format!(
                "the server was not started to stay at {}",
                mark.label
            )));
        }
        let at = known(lsn(&row, "at")?, "how far it has replayed")?;
        if at > Lsn(mark.at.number) {
            return Err(Trouble::Wrong(format!(
                "it is past {} at {at}: the point is not in what it followed",
                mark.label
            )));
        }
        Ok(row.try_get("paused")?)
    }
}
