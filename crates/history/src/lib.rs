//! The record in PostgreSQL: events, elections with who voted how, operations and their steps.
//!
//! Writing is idempotent, and never in the way of a failover: nodes keep events in their own store
//! until [`History::write`] has returned for them. Nothing is decided from what is read here.

use karst_api::Record;
use karst_api::core::NodeId;
use karst_api::core::event::{Event, FactKind, Level};
use sqlx::error::BoxDynError;
use sqlx::migrate::{Migration, MigrationSource, MigrationType, Migrator};
use sqlx::postgres::{PgConnectOptions, PgPool, PgPoolOptions, PgRow};
use sqlx::{ConnectOptions, Postgres, Row, Transaction};
use std::collections::BTreeMap;
use std::pin::Pin;
use std::str::FromStr;
use std::time::Duration;
use time::OffsetDateTime;

/// The history store did not answer, or not as expected.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum HistoryError {
    #[error("history store: {0}")]
    Store(#[from] sqlx::Error),
    #[error("history store's schema: {0}")]
    Schema(#[from] sqlx::migrate::MigrateError),
}

/// One event with its stamp, as a node's store holds it.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Stamped {
    pub number: u64,
    /// Nanoseconds since 1970, UTC.
    pub at: i128,
    pub event: Event,
}

impl Stamped {
    pub fn time(&self) -> OffsetDateTime {
        OffsetDateTime::from_unix_timestamp_nanos(self.at).unwrap_or(OffsetDateTime::UNIX_EPOCH)
    }

    pub fn into_record(self, node: &NodeId) -> Record {
        let at = rfc3339(self.time());
        let e = self.event;
        Record {
            at,
            node: node.clone(),
            number: self.number,
            level: e.level,
            kind: e.kind.word().into(),
            text: e.text,
            workload: e.workload.map(|w| w.to_string()),
            operation: e.operation.map(|o| o.0),
            index: e.index.map(|i| i.0),
            data: e.data,
        }
    }
}

/// A moment as it is written, and as it is read.
pub fn rfc3339(at: OffsetDateTime) -> String {
    at.format(&time::format_description::well_known::Rfc3339)
        .unwrap_or_default()
}

/// The steps of the schema, oldest first: version, name, text. One that was released never changes.
const STEPS: [(i64, &str, &str); 2] = [
    (1, "record", include_str!("../migrations/0001_record.sql")),
    (2, "arrival", include_str!("../migrations/0002_arrival.sql")),
];

/// Built in without the macro that would do it: that would have the whole client built a second
/// time, for the compiler.
#[derive(Debug)]
struct Schema;

impl MigrationSource<'static> for Schema {
    fn resolve(self) -> Pin<Box<dyn Future<Output = Result<Vec<Migration>, BoxDynError>> + Send>> {
        let step = |(version, name, text): (i64, &'static str, &'static str)| {
            Migration::new(
                version,
                name.into(),
                MigrationType::Simple,
                text.into(),
                false,
            )
        };
        Box::pin(std::future::ready(Ok(STEPS.map(step).into())))
    }
}

/// Longer than any batch takes to be written.
const WRITES_WITHIN: Duration = Duration::from_secs(10);

/// What to read.
#[derive(Clone, Debug, Default)]
pub struct Query {
    pub workload: Option<String>,
    pub operation: Option<u64>,
    /// As this node recorded it.
    pub node: Option<String>,
    pub kinds: Option<Vec<String>>,
    /// At least so much.
    pub level: Option<Level>,
    pub audit: Only,
    /// Only what happened later, or earlier.
    pub after: Option<OffsetDateTime>,
    pub before: Option<OffsetDateTime>,
    /// Only what came into the record later.
    pub arrived_after: Option<OffsetDateTime>,
    /// At most so many, the newest; 1 to 100,000.
    pub limit: u32,
}

/// Whether who asked for what belongs to it, and how that was answered.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Only {
    #[default]
    All,
    Rest,
    Audit,
}

const AUDIT: [FactKind; 2] = [FactKind::Asked, FactKind::Answered];

impl Query {
    /// Whether an event that a node still keeps belongs to it; when it arrives nobody knows yet.
    pub fn takes(&self, stamped: &Stamped, node: &NodeId) -> bool {
        let (e, at) = (&stamped.event, stamped.time());
        let same =
            |wanted: &Option<String>, is: Option<&str>| wanted.is_none() || wanted.as_deref() == is;
        let audit = AUDIT.contains(&e.kind);
        let kinds = self.kinds.as_ref();
        same(&self.workload, e.workload.as_ref().map(|w| w.as_str()))
            && same(&self.node, Some(node.as_str()))
            && self
                .operation
                .is_none_or(|id| e.operation.map(|o| o.0) == Some(id))
            && kinds.is_none_or(|kinds| kinds.iter().any(|kind| kind == e.kind.word()))
            && self.level.is_none_or(|level| e.level >= level)
            && (self.audit == Only::All || audit == (self.audit == Only::Audit))
            && self.after.is_none_or(|after| at > after)
            && self.before.is_none_or(|before| at < before)
    }

    fn levels(&self) -> Option<Vec<&'static str>> {
        let least = self.level?;
        let enough = Level::ALL.into_iter().filter(|level| *level >= least);
        Some(enough.map(Level::word).collect())
    }
}

/// A connection to the history store. Connects when it is first used, and again after a loss.
#[derive(Clone, Debug)]
pub struct History {
    pool: PgPool,
}

impl History {
    /// `url` is a PostgreSQL URL; the password, if any, comes separately and is never shown.
    ///
    /// # Errors
    /// If the URL cannot be read.
    pub fn new(url: &str, password: Option<&str>) -> Result<Self, HistoryError> {
        let mut options = PgConnectOptions::from_str(url)?
            .application_name("karst-history")
            .disable_statement_logging();
        if let Some(password) = password {
            options = options.password(password);
        }
        let pool = PgPoolOptions::new()
            .max_connections(3)
            .min_connections(0)
            .acquire_timeout(Duration::from_secs(2))
            .idle_timeout(Duration::from_secs(60))
            .connect_lazy_with(options);
        Ok(Self { pool })
    }

    /// Brings the schema up to date. Several nodes may do this at once.
    ///
    /// # Errors
    /// If the store cannot be reached, or holds a newer schema.
    pub async fn migrate(&self) -> Result<(), HistoryError> {
        Ok(Migrator::new(Schema).await?.run(&self.pool).await?)
    }

    /// Writes a batch; what is there already stays as it is. A record that the store refuses keeps no
    /// other one out: a note with its number, kind and level stands in its place. Returns the numbers
    /// of those, each with why.
    ///
    /// # Errors
    /// If the store cannot be reached, or fails for another reason than what is to be written. A part of
    /// the batch may be written then; all of it can be written again.
    pub async fn write(
        &self,
        node: &NodeId,
        store: &str,
        batch: &[Stamped],
    ) -> Result<Vec<(u64, String)>, HistoryError> {
        let (mut parts, mut set_aside) = (vec![batch], Vec::new());
        while let Some(part) = parts.pop() {
            match self.write_whole(node, store, part).await {
                Err(HistoryError::Store(error)) if refuses_data(&error) => {
                    if let [one] = part {
                        let why = error.to_string();
                        let note = stand_in(one, &why);
                        self.write_whole(node, store, &[note]).await?;
                        set_aside.push((one.number, why));
                    } else {
                        let (first, rest) = part.split_at(part.len() / 2);
                        parts.extend([rest, first]);
                    }
                }
                done => done?,
            }
        }
        Ok(set_aside)
    }

    /// One transaction.
    async fn write_whole(
        &self,
        node: &NodeId,
        store: &str,
        batch: &[Stamped],
    ) -> Result<(), HistoryError> {
        let mut tx = self.pool.begin().await?;
        for stamped in batch {
            write_event(&mut tx, node, store, stamped).await?;
            match stamped.event.kind {
                FactKind::Elected => write_election(&mut tx, node, stamped).await?,
                _ if stamped.event.operation.is_some() && stamped.event.index.is_some() => {
                    write_step(&mut tx, stamped).await?;
                }
                _ => {}
            }
        }
        tx.commit().await?;
        Ok(())
    }

    /// Oldest first; a committed decision, which every node records, once.
    ///
    /// # Errors
    /// If the store cannot be reached.
    pub async fn read(&self, query: &Query) -> Result<Vec<Record>, HistoryError> {
        // A moment that no calendar has, `infinity` say, is read as the last or first that can be written.
        let sql = "
            select *, greatest('0001-01-02Z', least('9999-12-30Z', at)) as moment from (
                select *, row_number() over (partition by coalesce(log_index::text, node || store || number)
                                             order by at, node) as copy
                from event
                where ($1::text is null or workload = $1) and ($2::bigint is null or operation = $2)
                  and ($3::timestamptz is null or at > $3) and ($5::timestamptz is null or arrived > $5)
                  and ($6::text is null or node = $6) and ($7::text[] is null or kind = any($7))
                  and ($8::text[] is null or level = any($8)) and ($9::timestamptz is null or at < $9)
                  and ($10::bool is null or (kind = any($11)) = $10)
            ) e where copy = 1 order by at desc, node desc, number desc limit $4";
        let rows = sqlx::query(sql)
            .bind(&query.workload)
            .bind(query.operation.map(|o| o as i64))
            .bind(query.after)
            .bind(i64::from(query.limit.clamp(1, 100_000)))
            .bind(query.arrived_after)
            .bind(&query.node)
            .bind(&query.kinds)
            .bind(query.levels())
            .bind(query.before)
            .bind((query.audit != Only::All).then_some(query.audit == Only::Audit))
            .bind(AUDIT.map(FactKind::word))
            .fetch_all(&self.pool)
            .await?;
        Ok(rows.iter().rev().map(record).collect::<Result<_, _>>()?)
    }

    /// Up to which moment everything that came is there to be read. A little before now, by the
    /// store's own clock: what is being written has its time of arrival already, and is not to be
    /// seen yet.
    ///
    /// # Errors
    /// If the store cannot be reached.
    pub async fn arrived(&self) -> Result<OffsetDateTime, HistoryError> {
        let sql = "select clock_timestamp() - make_interval(secs => $1)";
        Ok(sqlx::query_scalar(sql)
            .bind(WRITES_WITHIN.as_secs_f64())
            .fetch_one(&self.pool)
            .await?)
    }

    /// Per node and store: the highest number and how many events there are; without gaps both are
    /// the same.
    ///
    /// # Errors
    /// If the store cannot be reached.
    pub async fn completeness(&self) -> Result<Vec<(String, u64, u64)>, HistoryError> {
        let sql = "select node, max(number) as last, count(*) as events from event group by node, store order by node";
        let rows = sqlx::query(sql).fetch_all(&self.pool).await?;
        let count = |r: &PgRow, c: &str| r.try_get::<i64, _>(c).map(|n| n as u64);
        Ok(rows
            .iter()
            .map(|r| Ok((r.try_get(0)?, count(r, "last")?, count(r, "events")?)))
            .collect::<Result<_, sqlx::Error>>()?)
    }
}

async fn write_event(
    tx: &mut Transaction<'_, Postgres>,
    node: &NodeId,
    store: &str,
    stamped: &Stamped,
) -> Result<(), sqlx::Error> {
    let e = &stamped.event;
    sqlx::query(
        "insert into event (node, store, number, at, level, kind, text, workload, operation, log_index, data)
         values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11) on conflict do nothing",
    )
    .bind(node.as_str())
    .bind(store)
    .bind(stamped.number as i64)
    .bind(stamped.time())
    .bind(e.level.word())
    .bind(e.kind.word())
    .bind(&e.text)
    .bind(e.workload.as_ref().map(|w| w.as_str()))
    .bind(e.operation.map(|o| o.0 as i64))
    .bind(e.index.map(|i| i.0 as i64))
    .bind(sqlx::types::Json(&e.data))
    .execute(&mut **tx)
    .await?;
    Ok(())
}

/// Whether the store complains of what it is given, and not of itself: data exceptions, violated
/// constraints, exceeded limits (PostgreSQL manual, appendix A: classes 22, 23 and 54).
fn refuses_data(error: &sqlx::Error) -> bool {
    match error {
        sqlx::Error::Database(said) => said.code().is_some_and(|code| {
            ["22", "23", "54"]
                .iter()
                .any(|class| code.starts_with(class))
        }),
        sqlx::Error::Encode(_) => true,
        _ => false,
    }
}

/// A note stands in place of a record that the store refuses.
fn stand_in(refused: &Stamped, why: &str) -> Stamped {
    let e = &refused.event;
    let text =
        format!("this record was refused by the history store, and its text is left out: {why}");
    let mut event = Event::new(e.level, e.kind, text).within(e.operation);
    event.index = e.index;
    event.workload.clone_from(&e.workload);
    Stamped { event, ..*refused }
}

async fn write_election(
    tx: &mut Transaction<'_, Postgres>,
    node: &NodeId,
    stamped: &Stamped,
) -> Result<(), sqlx::Error> {
    let term: i64 = stamped
        .event
        .data
        .get("term")
        .and_then(|t| t.parse().ok())
        .unwrap_or_default();
    for (key, vote) in &stamped.event.data {
        if let Some(voter) = key.strip_prefix("vote.") {
            sqlx::query("insert into election (term, voter, vote, elected, at) values ($1, $2, $3, $4, $5) on conflict do nothing")
                .bind(term)
                .bind(voter)
                .bind(vote == "true")
                .bind(node.as_str())
                .bind(stamped.time())
                .execute(&mut **tx)
                .await?;
        }
    }
    Ok(())
}

async fn write_step(
    tx: &mut Transaction<'_, Postgres>,
    stamped: &Stamped,
) -> Result<(), sqlx::Error> {
    let e = &stamped.event;
    let (Some(operation), Some(index), Some(workload)) = (e.operation, e.index, &e.workload) else {
        return Ok(());
    };
    let id = operation.0 as i64;
    sqlx::query(
        "insert into step (operation, log_index, at, kind, text) values ($1, $2, $3, $4, $5) on conflict do nothing",
    )
    .bind(id)
    .bind(index.0 as i64)
    .bind(stamped.time())
    .bind(e.kind.word())
    .bind(&e.text)
    .execute(&mut **tx)
    .await?;
    sqlx::query("insert into operation (id, workload) values ($1, $2) on conflict do nothing")
        .bind(id)
        .bind(workload.as_str())
        .execute(&mut **tx)
        .await?;
    match e.kind {
        FactKind::OperationBegan => {
            sqlx::query(
                "update operation set began_at = coalesce(began_at, $2), opening = coalesce(opening, $3) where id = $1",
            )
            .bind(id)
            .bind(stamped.time())
            .bind(&e.text)
            .execute(&mut **tx)
            .await?;
        }
        FactKind::OperationDone | FactKind::OperationUndone | FactKind::OperationDiverted => {
            sqlx::query(
                "update operation set ended_at = coalesce(ended_at, $2), outcome = coalesce(outcome, $3),
                 phases = coalesce(phases, $4) where id = $1",
            )
            .bind(id)
            .bind(stamped.time())
            .bind(e.kind.word())
            .bind(sqlx::types::Json(&e.data))
            .execute(&mut **tx)
            .await?;
        }
        _ => {}
    }
    Ok(())
}

fn record(row: &PgRow) -> Result<Record, sqlx::Error> {
    let level: String = row.try_get("level")?;
    let number = |c: &str| {
        row.try_get::<Option<i64>, _>(c)
            .map(|n| n.map(|n| n as u64))
    };
    Ok(Record {
        at: rfc3339(row.try_get("moment")?),
        node: row.try_get::<String, _>("node")?.into(),
        number: number("number")?.unwrap_or_default(),
        level: match level.as_str() {
            "warning" => Level::Warning,
            "notice" => Level::Notice,
            _ => Level::Info,
        },
        kind: row.try_get("kind")?,
        text: row.try_get("text")?,
        workload: row.try_get("workload")?,
        operation: number("operation")?,
        index: number("log_index")?,
        data: members(row.try_get("data")?),
    })
}

/// As a daemon writes them: texts by name. What else a row holds is shown as its JSON, so that one
/// row of an unknown form keeps no other from being read.
fn members(data: serde_json::Value) -> BTreeMap<String, String> {
    use serde_json::Value;
    let text = |value: Value| match value {
        Value::String(text) => text,
        other => other.to_string(),
    };
    match data {
        Value::Object(all) => all.into_iter().map(|(name, v)| (name, text(v))).collect(),
        Value::Null => BTreeMap::new(),
        other => [("data".into(), text(other))].into(),
    }
}
