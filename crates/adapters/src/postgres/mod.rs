//! The driver of PostgreSQL 15 or newer with streaming replication: through SQL and the server's
//! own programs.
//!
//! Configuration is written by Karst at every start: the data directory's `postgresql.conf` holds
//! one line that includes a file under the runtime directory, so that nothing starts the server
//! behind Karst's back (D8), and that file holds everything else. A server starts with a
//! synchronous setting that lets no commit return until the epoch is opened (D4).

mod clone;
mod config;
mod lsn;
mod primary;
mod probe;
mod rewind;
mod scram;
mod standby;
mod start;
mod words;

use config::Plan;
pub use config::connection;
pub use lsn::Lsn;

use crate::driver::{Driver, Launch, Life, Start};
use crate::host::Host;
use crate::process::Processes;
use crate::site::{Site, SiteError};
use crate::trouble::{Result, Trouble};
use async_trait::async_trait;
use karst_core::replica::{Data, Done, Observation, Promotion, SyncSetting};
use karst_core::spec::WorkloadSpec;
use karst_core::{History, NodeId, Position, WorkloadId};
use rustix::process::Signal;
use sqlx::postgres::{PgConnectOptions, PgPool, PgPoolOptions, PgSslMode};
use sqlx::{ConnectOptions, Row};
use std::path::Path;
use std::sync::{Arc, Mutex};
use std::time::Duration;

impl From<sqlx::Error> for Trouble {
    fn from(error: sqlx::Error) -> Self {
        Self::Server(Box::new(error))
    }
}

/// What the driver remembers between two calls; nothing that a new one could not find out.
#[derive(Debug, Default)]
struct Memory {
    /// The newest timeline seen of this run of the server: a standby between two streams does not
    /// say.
    timeline: u32,
    upstream: Option<NodeId>,
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
    /// A standby's process that replays the log, by a handle that cannot come to mean another one.
    replayer: Option<Arc<std::os::fd::OwnedFd>>,
    /// Since when that process alone knows the newest settings.
    others_behind: Option<std::time::Instant>,
}

/// One replica's server on this host.
#[derive(Debug)]
pub struct Postgres {
    host: Arc<Host>,
    plan: Plan,
    options: PgConnectOptions,
    pool: PgPool,
    memory: Mutex<Memory>,
}

impl Postgres {
    /// The host's half and this one, of this node's replica.
    ///
    /// # Errors
    /// What the spec lacks for it, or what of it cannot be read.
    pub fn from_spec(
        workload: &WorkloadId,
        spec: &WorkloadSpec,
        me: &NodeId,
        (runtime, tls): (&Path, &Path),
        processes: Processes,
    ) -> std::result::Result<(Arc<Host>, Self), SiteError> {
        let plan = Plan::from_spec(workload, spec, tls)?;
        let site = Site::from_spec(workload, spec, me, (runtime, tls), processes, "postgres")?;
        let host = Arc::new(Host::new(site, "postmaster.pid"));
        Ok((host.clone(), Self::new(host, plan)))
    }

    fn new(host: Arc<Host>, plan: Plan) -> Self {
        let options = PgConnectOptions::new_without_pgpass()
            .socket(host.site.socket_dir())
            .port(host.site.address.port())
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
            host,
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

    fn data_kind(&self) -> Data {
        let data = &self.host.site.data;
        let files = self.host.files();
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

#[async_trait]
impl Driver for Postgres {
    fn data(&self) -> Data {
        self.data_kind()
    }

    async fn create(&self) -> Result<()> {
        self.make_data().await
    }

    async fn furnish(&self) -> Result<()> {
        self.make_roles().await
    }

    async fn prepare(&self, start: Start) -> Result<Launch> {
        self.prepare_start(start)
    }

    async fn answers(&self) -> bool {
        self.value::<bool>("select pg_is_in_recovery()")
            .await
            .is_ok()
    }

    async fn probe(&self) -> Observation {
        self.look_at_server().await
    }

    async fn checkpoint(&self) -> Result<()> {
        self.sql("checkpoint").await
    }

    /// A fast stop (manual, section 19.5).
    async fn ask_to_stop(&self) -> Result<()> {
        self.host.signal(Signal::INT, "the stop signal")
    }

    async fn clean_end(&self) -> Result<Option<u64>> {
        let end = start::clean_end(&self.control().await?);
        Ok(end.map(|end| end.0))
    }

    async fn settle(&self, enough: Option<u64>) -> Result<Position> {
        self.settle_at(enough.map(Lsn)).await
    }

    async fn promote(&self, after: Option<&History>) -> Result<Promotion> {
        self.end_recovery(after).await
    }

    async fn set_sync(&self, setting: SyncSetting) -> Result<()> {
        self.wait_for(setting).await
    }

    async fn repoint(&self, upstream: NodeId) -> Result<()> {
        self.follow(upstream).await
    }

    async fn rewind(&self, to: &NodeId) -> Result<Done> {
        self.rewind_to(to).await.map(|()| Done::Ok)
    }

    async fn copy_from(&self, from: &NodeId) -> Result<()> {
        self.back_up(from).await
    }

    fn reason(&self, log: &str, life: Life) -> Option<String> {
        words::reason(log, life)
    }

    async fn renew_certificates(&self) -> Result<()> {
        self.write_passfile()?;
        if self.host.first().is_some() {
            self.reload().await
        } else {
            Ok(())
        }
    }
}

/// Between two looks at replication that begins: each look costs the server that it waits for.
const STREAM_POLL: Duration = Duration::from_millis(5);
