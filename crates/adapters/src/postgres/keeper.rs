//! One replica's PostgreSQL server: its connection, and what is remembered of it.

use super::plan::Plan;
use crate::host::Host;
use crate::site::{Placed, Site, SiteError};
use crate::trouble::{Result, Trouble};
use karst_core::NodeId;
use karst_core::replica::Data;
use sqlx::postgres::{PgConnectOptions, PgPool, PgPoolOptions, PgSslMode};
use sqlx::{ConnectOptions, Row};
use std::sync::{Arc, Mutex};
use std::time::Duration;

/// Between two looks at replication that begins: each look costs the server that it waits for.
pub(super) const STREAM_POLL: Duration = Duration::from_millis(5);
/// While this file is in a data directory, what is there is neither the old data nor the new (D9).
pub(super) const REWINDING: &str = "karst.rewinding";

impl From<sqlx::Error> for Trouble {
    fn from(error: sqlx::Error) -> Self {
        Self::Server(Box::new(error))
    }
}

/// What the driver remembers between two calls; nothing that a new one could not find out.
#[derive(Debug, Default)]
pub(super) struct Memory {
    /// The newest timeline seen of this run of the server: a standby between two streams does not
    /// say.
    pub(super) timeline: u32,
    pub(super) version: Option<String>,
    pub(super) upstream: Option<NodeId>,
    pub(super) write_failures: u32,
    pub(super) write_probed: Option<std::time::Instant>,
    pub(super) can_write: Option<bool>,
    /// What the last write probe ran into.
    pub(super) write_trouble: Option<String>,
    /// The newest synchronous setting written: (epoch, number); a late one is refused (D2).
    pub(super) sync: (u64, u64),
    /// A commit was seen to wait for standbys in this run of the server, and nothing since lets one
    /// return alone. A new process does not know it, and starts from "no" (G3).
    pub(super) commits_wait: bool,
    /// The synchronous setting that was written last, and when.
    pub(super) written_sync: Option<(String, std::time::Instant)>,
    /// The data directory has Karst's settings.
    pub(super) ours: bool,
    /// What the server reads is what the spec of this driver says.
    pub(super) taken_up: bool,
    /// When a new connection was last tried, and whether it was in vain.
    pub(super) connected: Option<std::time::Instant>,
    pub(super) refuses: bool,
    /// A standby's process that replays the log, by a handle that cannot come to mean another one.
    pub(super) replayer: Option<Arc<std::os::fd::OwnedFd>>,
    /// Since when that process alone knows the newest settings.
    pub(super) others_behind: Option<std::time::Instant>,
}

/// One replica's server on this host.
#[derive(Debug)]
pub struct Postgres {
    pub(super) host: Arc<Host>,
    pub(super) plan: Plan,
    pub(super) options: PgConnectOptions,
    pub(super) pool: PgPool,
    memory: Mutex<Memory>,
    /// One at a time writes what the server reads: a look that takes up another spec keeps what an
    /// action wrote of whom commits wait for (D2).
    pub(super) writing: Mutex<()>,
}

impl Postgres {
    /// The host's half and this one, of this node's replica.
    ///
    /// # Errors
    /// What the spec lacks for it, or what of it cannot be read.
    pub fn of(placed: Placed<'_>) -> std::result::Result<(Arc<Host>, Self), SiteError> {
        let plan = Plan::from_spec(placed.workload, placed.spec, placed.tls)?;
        let site = Site::new(placed, "postgres")?;
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
            writing: Mutex::default(),
        }
    }

    pub(super) fn remember<T>(&self, f: impl FnOnce(&mut Memory) -> T) -> T {
        f(&mut self
            .memory
            .lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner))
    }

    pub(super) fn data_kind(&self) -> Data {
        let data = &self.host.site.data;
        let files = self.host.files();
        let [mark, version, signal] =
            [REWINDING, "PG_VERSION", "standby.signal"].map(|name| data.join(name));
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

    pub(super) async fn sql(&self, statement: &'static str) -> Result<()> {
        sqlx::query(statement).execute(&self.pool).await?;
        Ok(())
    }

    /// One value of one row.
    pub(super) async fn value<T>(&self, query: &'static str) -> Result<T>
    where
        for<'r> T: sqlx::Decode<'r, sqlx::Postgres> + sqlx::Type<sqlx::Postgres>,
    {
        Ok(sqlx::query(query).fetch_one(&self.pool).await?.try_get(0)?)
    }
}
