//! The driver of PostgreSQL 15 or newer with streaming replication: through SQL and the server's
//! own programs.
//!
//! Configuration is written by Karst at every start: the data directory's `postgresql.conf` holds
//! one line that includes a file under the runtime directory, so that nothing starts the server
//! behind Karst's back (D8), and that file holds everything else. A server starts with a
//! synchronous setting that lets no commit return until the epoch is opened (D4).

mod clone;
mod config;
mod files;
mod primary;
mod probe;
mod rewind;
mod scram;
mod server;
mod standby;
mod words;

pub use config::{Plan, PlanError};

use files::Files;
use karst_core::replica::{Action, Copied, Data, Done, Observation};
use sqlx::postgres::{PgConnectOptions, PgPool, PgPoolOptions, PgSslMode};
use sqlx::{ConnectOptions, Row};
use std::path::Path;
use std::sync::Mutex;
use std::time::Duration;
use words::Life;

/// What went wrong in an action, for people: what, where, and what the server or program said.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum Trouble {
    #[error("{what}: {source}")]
    Io {
        what: String,
        source: std::io::Error,
    },
    #[error("the server says: {0}")]
    Sql(#[from] sqlx::Error),
    #[error("{program} failed: {output}")]
    Program { program: String, output: String },
    #[error("{0}")]
    Wrong(String),
    #[error("{what} took longer than {limit:?}")]
    Late { what: &'static str, limit: Duration },
}

impl Trouble {
    fn io(what: impl Into<String>) -> impl FnOnce(std::io::Error) -> Self {
        let what = what.into();
        move |source| Self::Io { what, source }
    }
}

type Result<T> = std::result::Result<T, Trouble>;

/// What the driver remembers between two calls; nothing that a new one could not find out.
#[derive(Debug, Default)]
struct Memory {
    /// The newest timeline seen of this run of the server: a standby between two streams does not
    /// say.
    timeline: u32,
    upstream: Option<karst_core::NodeId>,
    write_failures: u32,
    write_probed: Option<std::time::Instant>,
    can_write: Option<bool>,
    /// What the last write probe ran into.
    write_trouble: Option<String>,
    /// The newest synchronous setting written: (epoch, number); a late one is refused (D2).
    sync: (u64, u64),
    unprotected: bool,
    /// The synchronous setting that was written last, and when.
    written_sync: Option<(String, std::time::Instant)>,
    /// When a new connection was last tried, and whether it was in vain.
    connected: Option<std::time::Instant>,
    refuses: bool,
    /// Why this run of the server ended, as it said itself.
    last_words: Option<String>,
    /// How far the clone or the rewind is that runs now.
    copied: Option<Copied>,
    /// The server's first process, by a handle that cannot come to mean another one.
    first: Option<std::sync::Arc<std::os::fd::OwnedFd>>,
    /// A standby's process that replays the log, likewise.
    replayer: Option<std::sync::Arc<std::os::fd::OwnedFd>>,
    /// Since when that process alone knows the newest settings.
    others_behind: Option<std::time::Instant>,
}

/// One replica's server on this host.
#[derive(Debug)]
pub struct Postgres {
    plan: Plan,
    options: PgConnectOptions,
    pool: PgPool,
    memory: Mutex<Memory>,
}

impl Postgres {
    pub fn new(plan: Plan) -> Self {
        let options = PgConnectOptions::new_without_pgpass()
            .socket(plan.socket_dir())
            .port(plan.address.port())
            .username("postgres")
            .database("postgres")
            .application_name("karst")
            .ssl_mode(PgSslMode::Disable)
            .disable_statement_logging();
        let pool = PgPoolOptions::new()
            .max_connections(4)
            .min_connections(0)
            .idle_timeout(None)
            .max_lifetime(None)
            .test_before_acquire(false)
            .acquire_timeout(Duration::from_millis(1500))
            .connect_lazy_with(options.clone());
        Self {
            plan,
            options,
            pool,
            memory: Mutex::default(),
        }
    }

    fn remember<T>(&self, f: impl FnOnce(&mut Memory) -> T) -> T {
        f(&mut self
            .memory
            .lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner))
    }

    fn files(&self) -> Files {
        Files {
            owner: self.plan.owner,
        }
    }

    pub fn data(&self) -> &Path {
        &self.plan.data
    }

    /// Carries out one action. Dropping the future abandons it at the next await; every action may
    /// be repeated.
    ///
    /// # Errors
    /// What the server or its programs said, in words.
    pub async fn act(&self, action: Action) -> Result<Done> {
        match action {
            Action::Create => self.create().await.map(|()| Done::Ok),
            Action::StartPrimary => self.start_primary().await.map(|()| Done::Ok),
            Action::StartStandby { upstream } => {
                self.start_standby(upstream).await.map(|()| Done::Ok)
            }
            Action::Checkpoint => self.sql("checkpoint").await.map(|()| Done::Ok),
            Action::StopClean { limit } => Ok(Done::Stopped {
                clean_at: self.stop_clean(limit).await?,
            }),
            Action::StopNow => self
                .stop_now()
                .await
                .map(|()| Done::Stopped { clean_at: None }),
            Action::Promote => self.promote().await.map(Done::Promoted),
            Action::Settle { enough } => {
                let (timeline, position) = self.settle(enough).await?;
                Ok(Done::Settled { timeline, position })
            }
            Action::Repoint { upstream } => self.repoint(upstream).await.map(|()| Done::Ok),
            Action::Rewind { to } => self.rewind_to(&to).await.map(|()| Done::Ok),
            Action::Clone { from } => self.clone_from(&from).await.map(|()| Done::Ok),
            Action::SetSync {
                epoch,
                number,
                standbys,
                unprotected,
            } => self
                .set_sync((epoch.0, number), &standbys, unprotected)
                .await
                .map(|()| Done::Ok),
        }
    }

    /// What is so after a stop, which has verified that nothing is left.
    pub fn stopped(&self) -> Observation {
        Observation::down(self.data_kind())
    }

    /// What is so in the moment after [`Postgres::exited`] returned.
    pub fn just_exited(&self) -> Observation {
        let trouble = self.last_words(Life::Served);
        self.remember(|m| m.last_words.clone_from(&trouble));
        Observation {
            runs: true,
            exited: true,
            trouble,
            ..Observation::down(self.data_kind())
        }
    }

    /// What is so now.
    pub async fn observe(&self) -> Observation {
        Observation {
            copied: self.remember(|m| m.copied),
            ..self.observe_server().await
        }
    }

    async fn observe_server(&self) -> Observation {
        // While the first process runs nobody has to look for the others: that costs a walk through
        // all of the host's. And whoever cannot look does not know that none is there.
        if self.first().is_none() && self.nothing_runs().is_ok_and(|nothing| nothing) {
            let trouble = self.remember(|m| m.last_words.clone());
            return Observation {
                trouble,
                ..Observation::down(self.data_kind())
            };
        }
        let seen = if self.has_lost_first() {
            self.just_exited()
        } else {
            self.probe().await
        };
        // Its children answer for a moment longer, as if nothing had happened.
        if self.has_lost_first() {
            self.just_exited()
        } else {
            seen
        }
    }

    fn data_kind(&self) -> Data {
        let data = &self.plan.data;
        let files = self.files();
        let [mark, version, signal] =
            [rewind::MARK, "PG_VERSION", "standby.signal"].map(|name| data.join(name));
        match files.exist([&mark, &version, &signal]) {
            Ok([true, ..]) => return Data::Unusable("a rewind was cut short".into()),
            Ok([false, true, standby]) => return Data::Present { standby },
            Ok([false, false, _]) => {}
            Err(error) => return Data::Foreign(error.to_string()),
        }
        // What is not a server's, or cannot be looked at, may be anybody's: no copy takes its
        // place.
        match files.names(data) {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Data::Empty,
            Err(error) => Data::Foreign(format!("{}: {error}", data.display())),
            Ok(names) if names.is_empty() => Data::Empty,
            Ok(_) => Data::Foreign(format!(
                "{} is not empty and not a server's data directory",
                data.display()
            )),
        }
    }

    async fn sql(&self, statement: &'static str) -> Result<()> {
        sqlx::query(statement).execute(&self.pool).await?;
        Ok(())
    }

    /// One value of one row.
    async fn value<T>(&self, query: &'static str) -> Result<T>
    where
        for<'r> T: sqlx::Decode<'r, sqlx::Postgres> + sqlx::Type<sqlx::Postgres>,
    {
        Ok(sqlx::query(query).fetch_one(&self.pool).await?.try_get(0)?)
    }
}

/// Between two looks at something that is about to happen.
const POLL: Duration = Duration::from_millis(2);
/// Between two looks at replication that begins: each look costs the server that it waits for.
const STREAM_POLL: Duration = Duration::from_millis(5);

/// Asks again and again until `ready` says so.
async fn until<F>(what: &'static str, limit: Duration, mut ready: impl FnMut() -> F) -> Result<()>
where
    F: Future<Output = Result<bool>>,
{
    within(what, limit, async {
        while !ready().await? {
            tokio::time::sleep(POLL).await;
        }
        Ok(())
    })
    .await
}

async fn within<T>(
    what: &'static str,
    limit: Duration,
    waiting: impl Future<Output = Result<T>>,
) -> Result<T> {
    tokio::time::timeout(limit, waiting)
        .await
        .unwrap_or(Err(Trouble::Late { what, limit }))
}
