//! What the driver is given, and the configuration files that it writes.

use super::{Postgres, Result, Trouble};
use crate::process::Processes;
use karst_core::spec::WorkloadSpec;
use karst_core::{NodeId, WorkloadId};
use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::net::SocketAddr;
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};

/// A name that no standby has: a primary that waits for it lets no commit return (D4).
pub(super) const IMPOSSIBLE: &str = "FIRST 1 (karst_nobody)";
/// The role that standbys connect with.
pub(super) const REPLICATION_ROLE: &str = "karst_replication";

/// Everything about one replica that does not change while the daemon runs.
#[derive(Clone, Debug)]
pub struct Plan {
    pub workload: WorkloadId,
    pub me: NodeId,
    pub address: SocketAddr,
    pub data: PathBuf,
    /// Where its write-ahead log is kept, if not within its data.
    pub log: Option<PathBuf>,
    pub processes: Processes,
    /// Under the daemon's runtime directory: configuration, socket, password file. Gone after a reboot.
    pub runtime: PathBuf,
    pub programs: PathBuf,
    /// Put before the command of every server program, to run it as the server's user.
    pub launcher: Vec<String>,
    pub owner: Option<(u32, u32)>,
    pub replicas: BTreeMap<NodeId, SocketAddr>,
    pub replication_password: String,
    /// A database and the role that owns it, made with the first data.
    pub database: Option<(String, String, String)>,
    pub extra: BTreeMap<String, String>,
}

/// A spec that this driver cannot work with.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum PlanError {
    #[error("workload {workload}: `{key}` is needed by the postgres driver")]
    Missing { workload: WorkloadId, key: &'static str },
    #[error("workload {workload}: the secret of `{key}` cannot be read: {why}")]
    Secret { workload: WorkloadId, key: &'static str, why: String },
    #[error("workload {workload}: there is no user `{user}` on this host")]
    NoUser { workload: WorkloadId, user: String },
}

impl Plan {
    /// From the spec's settings: `programs` (directory), `user` or `launcher`, `secret` (of the replication role),
    /// `database`, `client`, `client-secret`, and `set.NAME` for server settings. Secrets are `file:` or `env:`
    /// references.
    ///
    /// # Errors
    /// What is missing, and where.
    pub fn from_spec(
        workload: &WorkloadId, spec: &WorkloadSpec, me: &NodeId, runtime: &Path, processes: Processes,
    ) -> std::result::Result<Self, PlanError> {
        let given = |key: &'static str| spec.settings.get(key);
        let secret = |key: &'static str| {
            let reference = given(key).ok_or(PlanError::Missing { workload: workload.clone(), key })?;
            read_secret(reference).map_err(|why| PlanError::Secret { workload: workload.clone(), key, why })
        };
        let user = given("user").map_or("postgres", String::as_str);
        let owner = (given("launcher").is_none() && rustix::process::geteuid().is_root())
            .then(|| ids_of(user).ok_or_else(|| PlanError::NoUser { workload: workload.clone(), user: user.into() }))
            .transpose()?;
        let launcher = match (given("launcher"), owner) {
            (Some(words), _) => words.split_whitespace().map(String::from).collect(),
            (None, Some((uid, gid))) => {
                vec!["setpriv".into(), format!("--reuid={uid}"), format!("--regid={gid}"), "--clear-groups".into()]
            }
            (None, None) => Vec::new(),
        };
        let database = match (given("database"), given("client")) {
            (Some(database), Some(client)) => Some((database.clone(), client.clone(), secret("client-secret")?)),
            _ => None,
        };
        let extra = spec.settings.iter().filter_map(|(k, v)| Some((k.strip_prefix("set.")?.into(), v.clone())));
        Ok(Self {
            workload: workload.clone(),
            me: me.clone(),
            address: spec.replicas[me].address,
            data: spec.replicas[me].data.clone().into(),
            log: spec.replicas[me].log.clone().map(PathBuf::from),
            processes,
            runtime: runtime.join(workload.as_str()),
            programs: given("programs").map_or("/usr/lib/postgresql/15/bin", String::as_str).into(),
            launcher,
            owner,
            replicas: spec.replicas.iter().map(|(n, r)| (n.clone(), r.address)).collect(),
            replication_password: secret("secret")?,
            database,
            extra: extra.collect(),
        })
    }

    pub(super) fn passfile(&self) -> PathBuf {
        self.runtime.join("passfile")
    }
}

fn read_secret(reference: &str) -> std::result::Result<String, String> {
    let value = crate::secret::read(reference)?;
    let plain = |c: char| c.is_ascii_graphic() && !matches!(c, '\'' | '\\' | ':');
    if value.chars().all(plain) {
        return Ok(value);
    }
    Err("use printable characters without quotes, backslashes and colons".into())
}

fn ids_of(user: &str) -> Option<(u32, u32)> {
    let users = std::fs::read_to_string("/etc/passwd").ok()?;
    let line = users.lines().find(|l| l.split(':').next() == Some(user))?;
    let mut fields = line.split(':').skip(2);
    Some((fields.next()?.parse().ok()?, fields.next()?.parse().ok()?))
}

/// A value in a configuration file.
pub(super) fn quoted(value: &str) -> String {
    format!("'{}'", value.replace('\'', "''"))
}

/// What a clone or a rewind copies from. A source that loses its power says nothing more, and a copy of it would wait for ever
/// (seen: fourteen minutes). Its name is no node's: a copy's stream must not pass for a synchronous standby.
pub(super) fn source(address: SocketAddr) -> String {
    format!(
        "host={} port={} user={REPLICATION_ROLE} dbname=postgres application_name=karst_copy connect_timeout=5 \
         keepalives_idle=1 keepalives_interval=1 keepalives_count=3 tcp_user_timeout=4000",
        address.ip(),
        address.port()
    )
}

impl Postgres {
    /// Where this node's standby connects to.
    fn conninfo(&self, upstream: &NodeId) -> Result<String> {
        let plan = &self.plan;
        let address = plan
            .replicas
            .get(upstream)
            .ok_or_else(|| Trouble::Wrong(format!("{upstream} has no replica of {}", plan.workload)))?;
        Ok(format!(
            "host={} port={} user={REPLICATION_ROLE} application_name={} passfile={} connect_timeout=2 \
             keepalives_idle=1 keepalives_interval=1 keepalives_count=2",
            address.ip(),
            address.port(),
            plan.me,
            plan.passfile().display()
        ))
    }

    /// Writes everything that the server reads, by replacing whole files.
    pub(super) fn write_settings(&self, upstream: Option<&NodeId>, sync: &str) -> Result<()> {
        let plan = &self.plan;
        let mut text = String::from("# Written by Karst at every start and change; edits are lost.\n");
        let mut set = |key: &str, value: &str| {
            let _ = writeln!(text, "{key} = {}", quoted(value));
        };
        let port = plan.address.port().to_string();
        let defaults = [
            ("listen_addresses", "*"),
            ("port", port.as_str()),
            ("max_connections", "200"),
            ("shared_buffers", "64MB"),
            ("wal_level", "replica"),
            ("wal_log_hints", "on"),
            ("full_page_writes", "on"),
            ("max_wal_senders", "16"),
            ("wal_keep_size", "256MB"),
            ("wal_sender_timeout", "3s"),
            ("wal_receiver_timeout", "3s"),
            ("hot_standby", "on"),
            ("max_standby_streaming_delay", "5s"),
            ("restart_after_crash", "off"),
            ("synchronous_commit", "on"),
            ("password_encryption", "scram-sha-256"),
            ("logging_collector", "off"),
            ("log_line_prefix", "%m [%p] "),
        ];
        defaults.iter().for_each(|(k, v)| set(k, v));
        plan.extra.iter().for_each(|(k, v)| set(k, v));
        set("unix_socket_directories", &plan.runtime.display().to_string());
        set("hba_file", &plan.runtime.join("hba.conf").display().to_string());
        set("primary_conninfo", &upstream.map(|u| self.conninfo(u)).transpose()?.unwrap_or_default());
        set("synchronous_standby_names", sync);
        self.remember(|m| m.written_sync = Some((sync.to_string(), std::time::Instant::now())));
        self.write_passfile()?;
        // Not synced: the runtime directory is empty after a boot anyway, and every start writes all of this again.
        self.put(&plan.runtime.join("server.conf"), &text, false)?;
        self.put(
            &plan.runtime.join("hba.conf"),
            &format!(
                "# The socket's directory is closed to everyone but the server's user and Karst.\n\
                 local all all trust\nhost replication {REPLICATION_ROLE} all scram-sha-256\n\
                 host postgres {REPLICATION_ROLE} all scram-sha-256\nhost all {REPLICATION_ROLE} all reject\nhost all postgres all reject\nhost all all all scram-sha-256\n"
            ),
            false,
        )
    }

    /// What standbys and the server's own programs connect to another server with.
    pub(super) fn write_passfile(&self) -> Result<()> {
        let plan = &self.plan;
        std::fs::create_dir_all(&plan.runtime).map_err(Trouble::io(plan.runtime.display().to_string()))?;
        self.own(&plan.runtime, 0o700)?;
        self.put(&plan.passfile(), &format!("*:*:*:{REPLICATION_ROLE}:{}\n", plan.replication_password), false)
    }

    /// The one line in the data directory that makes the server depend on Karst (D8).
    pub(super) fn write_include(&self) -> Result<()> {
        let server = self.plan.runtime.join("server.conf");
        let text = format!(
            "# This server is kept by Karst and does not start without it.\ninclude {}\n",
            quoted(&server.display().to_string())
        );
        self.put(&self.plan.data.join("postgresql.conf"), &text, true)
    }

    fn put(&self, path: &Path, text: &str, durable: bool) -> Result<()> {
        use std::io::Write as _;
        if std::fs::read_to_string(path).is_ok_and(|now| now == text) {
            return Ok(());
        }
        let next = path.with_extension("next");
        let write = || {
            let mut file =
                std::fs::OpenOptions::new().create(true).write(true).truncate(true).mode(0o600).open(&next)?;
            file.write_all(text.as_bytes())?;
            if durable { file.sync_all() } else { Ok(()) }
        };
        write().map_err(Trouble::io(next.display().to_string()))?;
        self.own(&next, 0o600)?;
        std::fs::rename(&next, path).map_err(Trouble::io(path.display().to_string()))
    }

    pub(super) fn own(&self, path: &Path, mode: u32) -> Result<()> {
        let own = || {
            if let Some((uid, gid)) = self.plan.owner {
                std::os::unix::fs::chown(path, Some(uid), Some(gid))?;
            }
            std::fs::set_permissions(path, std::fs::Permissions::from_mode(mode))
        };
        own().map_err(Trouble::io(path.display().to_string()))
    }
}
