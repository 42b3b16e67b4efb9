//! What the server is and how far, by SQL; a write probe on a primary.

use super::config::quoted;
use super::keeper::Postgres;
use super::lsn::Lsn;
use crate::trouble::{Result, Trouble, within};
use karst_core::replica::{Downstream, Observation, Presence, Role, Setting};
use sqlx::postgres::PgRow;
use sqlx::{Connection as _, Executor as _, PgConnection, Row};
use std::path::Path;
use std::time::{Duration, Instant};

/// How long a server may take to answer a probe.
const PATIENCE: Duration = Duration::from_millis(1000);
/// A little less than a second: a calm server is looked at each second, give or take.
const WRITE_EVERY: Duration = Duration::from_millis(900);
/// Failed write probes in a row before "cannot write"; one that did not come back in time counts
/// less than an error: on a host that is short of CPU it says nothing about the disk.
const WRITE_TRIES: u32 = 10;
/// Between two new connections: each costs the server a process.
const CONNECT_EVERY: Duration = Duration::from_secs(3);
/// So long after it was written a setting is in force in every session that is asked.
const RELOADED: Duration = Duration::from_secs(2);
const ERROR_COUNTS: u32 = 5;
const SILENCE_COUNTS: u32 = 2;
/// A standby this close behind counts as caught up: the rest is waited for when it joins.
const NEAR: u64 = 16 << 20;
/// Written anew by the server itself each time: more than a block of any table.
const ROOM: &str = "karst.room";
const ROOM_BYTES: u32 = 64 << 10;

/// No room is no room, however often it is tried (manual, appendix A: disk_full).
fn is_full(error: &Trouble) -> bool {
    let Trouble::Server(said) = error else {
        return false;
    };
    let said = said.downcast_ref::<sqlx::Error>();
    let code = said.and_then(|said| said.as_database_error()?.code());
    code.is_some_and(|code| code == "53100")
}

/// One round trip for everything; `timeline` of a standby is the newest that anything names.
const LOOK: &str = "
with setting as materialized
  (select name, reset_val, coalesce(sourcefile, source) as origin, pending_restart from pg_settings
   where (pending_restart and name not like 'recovery_target%') or name in ('synchronous_standby_names', 'synchronous_commit', 'recovery_target_name'))
select pg_is_in_recovery() as standby,
       case when pg_is_in_recovery() then
         greatest((select received_tli from pg_stat_wal_receiver),
                  (select timeline_id from pg_control_checkpoint()),
                  (select nullif(min_recovery_end_timeline, 0) from pg_control_recovery()))
       else ('x' || substr(pg_walfile_name(pg_current_wal_insert_lsn()), 1, 8))::bit(32)::int end as timeline,
       case when pg_is_in_recovery() then pg_last_wal_receive_lsn() else pg_current_wal_flush_lsn() end::text as received,
       case when pg_is_in_recovery() then pg_last_wal_replay_lsn() else pg_current_wal_flush_lsn() end::text as replayed,
       coalesce((select status = 'streaming' from pg_stat_wal_receiver), false) as streaming,
       current_setting('synchronous_standby_names') as sync,
       (select origin from setting where name = 'synchronous_standby_names') as sync_source,
       current_setting('server_version') as version,
       current_setting('fsync') as fsync, current_setting('full_page_writes') as full_pages,
       (select reset_val from setting where name = 'synchronous_commit') as sync_commit,
       current_setting('restart_after_crash') as restarts,
       case when pg_is_in_recovery() then nullif(current_setting('recovery_target_name'), '') end as goes_up_to,
       (select origin from setting where name = 'recovery_target_name') as target_source,
       case when pg_is_in_recovery() then pg_get_wal_replay_pause_state() = 'paused' else false end as paused,
       (select string_agg(name, ' ' order by name) from setting
        where pending_restart and name not like 'recovery_target%') as pending,
       (select string_agg(concat_ws(' ', 'role ' || r.rolname, 'database ' || d.datname), ', ')
        from pg_db_role_setting s left join pg_roles r on r.oid = s.setrole left join pg_database d on d.oid = s.setdatabase
        where exists (select from unnest(s.setconfig) c
                      where c ~ '^synchronous_commit=' and c !~ '=(on|remote_apply)$')) as overrides";

/// Settings that the promises rest on: name, column of the look, and what they may be (D7, F11).
const SETTINGS: &[(&str, &str, &[&str])] = &[
    ("fsync", "fsync", &["on"]),
    ("full_page_writes", "full_pages", &["on"]),
    ("synchronous_commit", "sync_commit", &["on", "remote_apply"]),
    ("restart_after_crash", "restarts", &["off"]),
];

fn setting(name: &str, value: String, source: String, ends_promise: bool) -> Setting {
    Setting {
        name: name.into(),
        value,
        source,
        ends_promise,
    }
}

const STANDBYS: &str = "
select application_name, state = 'streaming' as streaming, sent_lsn::text as sent, flush_lsn::text as flushed,
       replay_lsn::text as replayed,
       (extract(epoch from replay_lag) * 1000000)::bigint as delay
from pg_stat_replication where application_name is not null order by application_name";

/// None where the server does not know, which is not zero (F2).
pub(super) fn lsn(row: &PgRow, column: &str) -> Result<Option<Lsn>> {
    let Some(text) = row.try_get::<Option<String>, _>(column)? else {
        return Ok(None);
    };
    Lsn::parse(&text)
        .map(Some)
        .ok_or_else(|| Trouble::Wrong(format!("`{text}` is not a position")))
}

/// One that has to be there.
pub(super) fn known(lsn: Option<Lsn>, what: &str) -> Result<Lsn> {
    lsn.ok_or_else(|| Trouble::Wrong(format!("the server does not know {what}")))
}

impl Postgres {
    pub(super) async fn look_at_server(&self) -> Observation {
        let mut seen = Observation {
            presence: Presence::Runs,
            ..Observation::down(self.data_kind())
        };
        match tokio::time::timeout(PATIENCE, self.look(&mut seen)).await {
            Ok(Ok(())) => {}
            Ok(Err(error)) => seen.trouble = Some(error.to_string()),
            Err(_) => seen.trouble = Some(format!("the server did not answer within {PATIENCE:?}")),
        }
        if seen.role == Some(Role::Primary) {
            self.probe_write().await;
            (seen.can_write, seen.trouble) =
                self.remember(|m| (m.can_write, m.write_trouble.clone()));
            if let Err(trouble) = self.probe_connect().await {
                // Whoever is connected is answered, and nobody else: that is not a server which
                // serves (F7).
                (seen.role, seen.trouble) = (None, Some(trouble.to_string()));
            }
        }
        seen
    }

    async fn look(&self, seen: &mut Observation) -> Result<()> {
        let row = sqlx::query(LOOK).fetch_one(&self.pool).await?;
        let standby: bool = row.try_get("standby")?;
        let timeline = row
            .try_get::<Option<i32>, _>("timeline")?
            .unwrap_or(0)
            .unsigned_abs();
        let version: String = row.try_get("version")?;
        // Distributions write their own behind it.
        let version = version.split(' ').next().unwrap_or_default();
        let timeline = self.remember(|m| {
            m.version.replace(format!("PostgreSQL {version}"));
            m.timeline = m.timeline.max(timeline);
            m.timeline
        });
        let pending = row.try_get::<Option<String>, _>("pending")?;
        seen.pending = pending
            .iter()
            .flat_map(|names| names.split(' '))
            .map(String::from)
            .collect();
        let (received, replayed) = (lsn(&row, "received")?, lsn(&row, "replayed")?);
        // A name that the data's owner set is nobody's safety point.
        let source: String = row.try_get("target_source")?;
        let ours = self.host.site.runtime.join("server.conf");
        let label: Option<String> = row.try_get("goes_up_to")?;
        seen.goes_up_to = label.filter(|_| Path::new(&source) == ours);
        let paused: bool = row.try_get("paused")?;
        seen.held_at = seen.goes_up_to.clone().filter(|_| paused);
        // D6: after a restart `received` falls below `replayed`. What a standby at a point has
        // received beyond it is nothing that it will ever have (P1).
        let at = match &seen.held_at {
            Some(_) => replayed,
            None => received.max(replayed),
        };
        (seen.received, seen.replayed) = (received.map(|at| at.0), replayed.map(|at| at.0));
        seen.position = at.map(|at| at.on(timeline));
        seen.place = at.map(|at| format!("{at} on timeline {timeline}"));
        if standby {
            seen.role = Some(Role::Standby);
            seen.streaming = row.try_get("streaming")?;
            seen.upstream = self.remember(|m| m.upstream.clone());
            if self.remember(|m| m.replayer.is_none()) {
                self.replayer().await?;
            }
            self.tell_others().await?;
            return Ok(());
        }
        seen.role = Some(Role::Primary);
        seen.overruled = self.look_at_settings(&row).await?;
        for row in sqlx::query(STANDBYS).fetch_all(&self.pool).await? {
            let number = |column| Ok::<_, Trouble>(lsn(&row, column)?.map(|at| at.0));
            let flushed = number("flushed")?;
            let lacks = flushed.zip(at).map(|(has, at)| at.0.saturating_sub(has));
            seen.standbys.push(Downstream {
                node: row.try_get::<String, _>("application_name")?.into(),
                sent: number("sent")?,
                flushed,
                replayed: number("replayed")?,
                streaming: row.try_get("streaming")?,
                near: lacks.is_some_and(|lacks| lacks <= NEAR),
                delay: row
                    .try_get::<Option<i64>, _>("delay")?
                    .and_then(|us| Some(Duration::from_micros(us.try_into().ok()?))),
            });
        }
        Ok(())
    }

    /// Whether it accepts a new connection, now and then; and with each look as long as it does
    /// not. That all of them are taken is an answer.
    async fn probe_connect(&self) -> Result<()> {
        let due = self
            .remember(|m| m.refuses || m.connected.is_none_or(|at| at.elapsed() >= CONNECT_EVERY));
        if !due {
            return Ok(());
        }
        let connect = PgConnection::connect_with(&self.options);
        let result = within("accepting a new connection", PATIENCE, async {
            match connect.await {
                Ok(connection) => {
                    // It was accepted, which is all that was asked.
                    let _ = connection.close().await;
                    Ok(())
                }
                Err(sqlx::Error::Database(_)) => Ok(()),
                Err(error) => Err(error.into()),
            }
        })
        .await;
        self.remember(|m| (m.connected, m.refuses) = (Some(Instant::now()), result.is_err()));
        result
    }

    /// What is in force in place of what Karst wrote, or of what its promises rest on (F11). The
    /// synchronous setting is put right at once; that it was another one is said all the same.
    async fn look_at_settings(&self, row: &PgRow) -> Result<Vec<Setting>> {
        let mut found = Vec::new();
        let written = self.remember(|m| m.written_sync.clone());
        let sync: String = row.try_get("sync")?;
        if let Some((expected, at)) = written
            && sync != expected
            && at.elapsed() >= RELOADED
        {
            let source: String = row.try_get("sync_source")?;
            found.push(setting("synchronous_standby_names", sync, source, true));
            self.sql("alter system reset synchronous_standby_names")
                .await?;
            self.reload().await?;
        }
        for (name, column, good) in SETTINGS {
            let value: String = row.try_get(*column)?;
            if !good.contains(&value.as_str()) {
                found.push(setting(name, value, "for the whole server".into(), false));
            }
        }
        if let Some(overrides) = row.try_get::<Option<String>, _>("overrides")? {
            found.push(setting(
                "synchronous_commit",
                "overridden".into(),
                overrides,
                false,
            ));
        }
        Ok(found)
    }

    /// Whether a write still works, without waiting for any standby: a full or failing disk accepts
    /// connections and answers reads.
    async fn probe_write(&self) {
        let due = self.remember(|m| m.write_probed.is_none_or(|at| at.elapsed() >= WRITE_EVERY));
        if !due {
            return;
        }
        let written = tokio::time::timeout(PATIENCE, self.write_a_little()).await;
        self.remember(|m| {
            m.write_probed = Some(Instant::now());
            let (counts, trouble) = match written {
                Ok(Ok(())) => {
                    (m.write_failures, m.can_write, m.write_trouble) = (0, Some(true), None);
                    return;
                }
                Ok(Err(error)) if is_full(&error) => (WRITE_TRIES, error.to_string()),
                Ok(Err(error)) => (ERROR_COUNTS, error.to_string()),
                Err(_) => (SILENCE_COUNTS, format!("no answer within {PATIENCE:?}")),
            };
            m.write_failures += counts;
            m.write_trouble = Some(format!("a write failed: {trouble}"));
            if m.write_failures >= WRITE_TRIES {
                m.can_write = Some(false);
            }
        });
    }

    /// A commit, and a little room on the volumes of the data and of the log: an update of one row
    /// would go on for long where there is none, and a server that finds none for its log ends.
    async fn write_a_little(&self) -> Result<()> {
        let (site, mut script) = (&self.host.site, self.pulse_script());
        for volume in std::iter::once(&site.data).chain(&site.log) {
            let file = quoted(&volume.join(ROOM).to_string_lossy());
            // It is left empty, so that the next probe needs as much room again.
            for rows in [
                format!("select repeat('.', {ROOM_BYTES})"),
                "select '' limit 0".into(),
            ] {
                script += &format!("copy ({rows}) to {file};");
            }
        }
        sqlx::raw_sql(&script).execute(&self.pool).await?;
        Ok(())
    }

    /// One local write, of this node's own row. Several statements sent as one are one transaction
    /// (manual, section 55.2.2.1), and one round trip.
    fn pulse_script(&self) -> String {
        self.pulse_of("local")
    }

    /// A write whose commit waits for the synchronous standbys.
    pub(super) fn waiting_pulse_script(&self) -> String {
        self.pulse_of("on")
    }

    fn pulse_of(&self, synchronous_commit: &str) -> String {
        format!(
            "set local synchronous_commit = {synchronous_commit};
             insert into karst.pulse (node, count) values ({}, 1)
             on conflict (node) do update set at = now(), count = pulse.count + 1;",
            quoted(self.host.site.me.as_str())
        )
    }

    /// One local write; returns the position after it.
    pub(super) async fn pulse(&self, connection: &mut PgConnection) -> Result<Lsn> {
        connection.execute(self.pulse_script().as_str()).await?;
        let row = sqlx::query("select pg_current_wal_insert_lsn()::text as at")
            .fetch_one(connection)
            .await?;
        known(lsn(&row, "at")?, "where its log ends")
    }
}
