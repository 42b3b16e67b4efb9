//! What the driver is given, and the configuration files that it writes.

use super::files::with_ending;
use super::{Postgres, Result, Trouble};
use crate::process::Processes;
use karst_core::spec::WorkloadSpec;
use karst_core::{NodeId, WorkloadId};
use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::fs::{OpenOptions, Permissions};
use std::io::Write as _;
use std::net::SocketAddr;
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt, chown, fchown};
use std::path::{Path, PathBuf};

/// A name that no standby has: a primary that waits for it lets no commit return (D4).
pub(super) const IMPOSSIBLE: &str = "FIRST 1 (karst_nobody)";
/// The role that standbys connect with.
pub(super) const REPLICATION_ROLE: &str = "karst_replication";

/// Of the replication password, in characters.
const SECRET: usize = 32;
/// The server's copies of what it shows, and of whom it believes.
const CERTIFICATE: &str = "server.pem";
const KEY: &str = "server.key";
const CA: &str = "ca.pem";

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
    /// Under the daemon's runtime directory: configuration and password file, which the server
    /// reads and cannot replace, and below it a directory of the server's own for its socket. Gone
    /// after a reboot.
    pub runtime: PathBuf,
    pub programs: PathBuf,
    /// Put before the command of every server program, to run it as the server's user.
    pub launcher: Vec<String>,
    pub owner: Option<(u32, u32)>,
    pub replicas: BTreeMap<NodeId, SocketAddr>,
    pub replication_password: String,
    /// Where the cluster's CA is, and the server's certificate and key: servers speak to each other
    /// by TLS alone. Not the node's: with that key the server's user could speak for the node.
    pub tls: PathBuf,
    /// A database and the role that owns it, made with the first data.
    pub database: Option<(String, String, String)>,
    pub extra: BTreeMap<String, String>,
}

/// A spec that this driver cannot work with.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum PlanError {
    #[error("workload {workload}: `{key}` is needed by the postgres driver")]
    Missing {
        workload: WorkloadId,
        key: &'static str,
    },
    #[error("workload {workload}: the secret of `{key}` cannot be read: {why}")]
    Secret {
        workload: WorkloadId,
        key: &'static str,
        why: String,
    },
    #[error(
        "{}: it is the node's own key, and whoever has that speaks for the node: give the server one of its own", .0.display()
    )]
    NodesKey(PathBuf),
    #[error("{}: cannot be read, so nobody knows whose key it is: {why}", path.display())]
    Key { path: PathBuf, why: String },
    #[error("workload {workload}: there is no user `{user}` on this host")]
    NoUser { workload: WorkloadId, user: String },
}

impl Plan {
    /// `tls` holds `ca.pem`, `server.pem` and `server.key`, which the server gets copies of. From
    /// the spec's settings: `programs` (directory), `user` or `launcher`, `secret` (of the
    /// replication role), `database`, `client`, `client-secret`, and `set.NAME` for server
    /// settings. Secrets are `file:` or `env:` references.
    ///
    /// # Errors
    /// What is missing, and where.
    pub fn from_spec(
        workload: &WorkloadId,
        spec: &WorkloadSpec,
        me: &NodeId,
        (runtime, tls): (&Path, &Path),
        processes: Processes,
    ) -> std::result::Result<Self, PlanError> {
        let given = |key: &'static str| spec.settings.get(key);
        let secret = |key: &'static str| {
            let reference = given(key).ok_or(PlanError::Missing {
                workload: workload.clone(),
                key,
            })?;
            read_secret(reference).map_err(|why| PlanError::Secret {
                workload: workload.clone(),
                key,
                why,
            })
        };
        let user = given("user").map_or("postgres", String::as_str);
        let owner = (given("launcher").is_none() && rustix::process::geteuid().is_root())
            .then(|| {
                ids_of(user).ok_or_else(|| PlanError::NoUser {
                    workload: workload.clone(),
                    user: user.into(),
                })
            })
            .transpose()?;
        let launcher = match (given("launcher"), owner) {
            (Some(words), _) => words.split_whitespace().map(String::from).collect(),
            (None, Some((uid, gid))) => {
                vec![
                    "setpriv".into(),
                    format!("--reuid={uid}"),
                    format!("--regid={gid}"),
                    "--clear-groups".into(),
                ]
            }
            (None, None) => Vec::new(),
        };
        let database = match (given("database"), given("client")) {
            (Some(database), Some(client)) => {
                Some((database.clone(), client.clone(), secret("client-secret")?))
            }
            _ => None,
        };
        let (node, server) = (key_in(tls, "node.key")?, key_in(tls, KEY)?);
        if node.is_some() && node == server {
            return Err(PlanError::NodesKey(tls.join(KEY)));
        }
        let extra = spec
            .settings
            .iter()
            .filter_map(|(k, v)| Some((k.strip_prefix("set.")?.into(), v.clone())));
        Ok(Self {
            workload: workload.clone(),
            me: me.clone(),
            address: spec.replicas[me].address,
            data: spec.replicas[me].data.clone().into(),
            log: spec.replicas[me].log.clone().map(PathBuf::from),
            processes,
            runtime: runtime.join(workload.as_str()),
            programs: given("programs")
                .map_or("/usr/lib/postgresql/15/bin", String::as_str)
                .into(),
            launcher,
            owner,
            replicas: spec
                .replicas
                .iter()
                .map(|(n, r)| (n.clone(), r.address))
                .collect(),
            replication_password: long_enough(workload, secret("secret")?)?,
            tls: tls.to_owned(),
            database,
            extra: extra.collect(),
        })
    }

    pub(super) fn passfile(&self) -> PathBuf {
        self.runtime.join("passfile")
    }

    pub fn socket_dir(&self) -> PathBuf {
        self.runtime.join("socket")
    }
}

/// Whoever reaches a server's port may try to log in as a standby, and what a server keeps of the
/// password bears few tries each.
fn long_enough(workload: &WorkloadId, password: String) -> std::result::Result<String, PlanError> {
    if password.len() >= SECRET {
        return Ok(password);
    }
    let why = format!(
        "it has {} characters; make one of at least {SECRET}, with `openssl rand -hex 32`",
        password.len()
    );
    Err(PlanError::Secret {
        workload: workload.clone(),
        key: "secret",
        why,
    })
}

/// What a key file holds; none where there is no such file.
fn key_in(tls: &Path, name: &str) -> std::result::Result<Option<Vec<u8>>, PlanError> {
    let path = tls.join(name);
    match std::fs::read(&path) {
        Ok(key) => Ok(Some(key)),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(PlanError::Key {
            path,
            why: error.to_string(),
        }),
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

impl Postgres {
    /// How another server is spoken to: it has to show the certificate of the node that it is meant
    /// to be, and learns the password of nobody (RFC 5802; RFC 5929, section 4).
    fn reaches(&self, node: &NodeId) -> Result<String> {
        let plan = &self.plan;
        let unknown = || Trouble::Wrong(format!("{node} has no replica of {}", plan.workload));
        let address = plan.replicas.get(node).ok_or_else(unknown)?;
        Ok(format!(
            "host={node} hostaddr={} port={} user={REPLICATION_ROLE} sslmode=verify-full sslrootcert={} \
             channel_binding=require",
            address.ip(),
            address.port(),
            plan.runtime.join(CA).display()
        ))
    }

    /// What a clone or a rewind copies from. A source that loses its power says nothing more, and a
    /// copy of it would wait for ever (seen: fourteen minutes). Its name is no node's: a copy's
    /// stream must not pass for a synchronous standby.
    pub(super) fn source(&self, node: &NodeId) -> Result<String> {
        Ok(format!(
            "{} dbname=postgres application_name=karst_copy connect_timeout=5 keepalives_idle=1 keepalives_interval=1 \
             keepalives_count=3 tcp_user_timeout=4000",
            self.reaches(node)?
        ))
    }

    /// Where this node's standby connects to.
    fn conninfo(&self, upstream: &NodeId) -> Result<String> {
        let plan = &self.plan;
        Ok(format!(
            "{} application_name={} passfile={} connect_timeout=2 keepalives_idle=1 keepalives_interval=1 \
             keepalives_count=2",
            self.reaches(upstream)?,
            plan.me,
            plan.passfile().display()
        ))
    }

    /// Writes everything that the server reads, by replacing whole files.
    pub(super) fn write_settings(&self, upstream: Option<&NodeId>, sync: &str) -> Result<()> {
        let plan = &self.plan;
        let mut text =
            String::from("# Written by Karst at every start and change; edits are lost.\n");
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
            ("ssl", "on"),
            ("ssl_min_protocol_version", "TLSv1.3"),
        ];
        defaults.iter().for_each(|(k, v)| set(k, v));
        plan.extra.iter().for_each(|(k, v)| set(k, v));
        set(
            "unix_socket_directories",
            &plan.socket_dir().display().to_string(),
        );
        for (key, name) in [
            ("ssl_ca_file", CA),
            ("ssl_cert_file", CERTIFICATE),
            ("ssl_key_file", KEY),
        ] {
            set(key, &plan.runtime.join(name).display().to_string());
        }
        set(
            "hba_file",
            &plan.runtime.join("hba.conf").display().to_string(),
        );
        set(
            "primary_conninfo",
            &upstream
                .map(|u| self.conninfo(u))
                .transpose()?
                .unwrap_or_default(),
        );
        set("synchronous_standby_names", sync);
        self.remember(|m| m.written_sync = Some((sync.to_string(), std::time::Instant::now())));
        // Not synced: the runtime directory is empty after a boot anyway, and every start writes
        // all of this again.
        self.lay_out("server.conf", &text, 0o640)?;
        self.lay_out("hba.conf", &self.who_may_connect(), 0o640)
    }

    /// The server's users on this host, the other replicas by TLS and from their own addresses, and
    /// clients.
    fn who_may_connect(&self) -> String {
        let mut text = String::from(
            "# The socket's directory is closed to everyone but the server's user and Karst.\nlocal all all trust\n",
        );
        for (_, address) in self
            .plan
            .replicas
            .iter()
            .filter(|(node, _)| **node != self.plan.me)
        {
            let ip = address.ip();
            let whole = if ip.is_ipv4() { 32 } else { 128 };
            // To stream the log, and for a rewind.
            for database in ["replication", "postgres"] {
                let _ = writeln!(
                    text,
                    "hostssl {database} {REPLICATION_ROLE} {ip}/{whole} scram-sha-256"
                );
            }
        }
        let _ = writeln!(
            text,
            "host replication all all reject\nhost all {REPLICATION_ROLE} all reject"
        );
        text += "host all postgres all reject\nhost all all all scram-sha-256\n";
        text
    }

    /// What standbys and the server's own programs connect to another server with.
    pub(super) fn write_passfile(&self) -> Result<()> {
        let plan = &self.plan;
        let (dir, group) = (&plan.runtime, plan.owner.map(|(_, gid)| gid));
        let make = || {
            std::fs::create_dir_all(dir)?;
            chown(dir, None, group)?;
            std::fs::set_permissions(dir, Permissions::from_mode(0o750))
        };
        make().map_err(Trouble::io(dir.display().to_string()))?;
        let socket = plan.socket_dir();
        self.files()
            .ensure_dir(&socket)
            .map_err(Trouble::io(socket.display().to_string()))?;
        for (name, mode) in [
            (CA, 0o640),
            (CERTIFICATE, 0o640),
            (KEY, if group.is_some() { 0o640 } else { 0o600 }),
        ] {
            let from = plan.tls.join(name);
            let text =
                std::fs::read_to_string(&from).map_err(Trouble::io(from.display().to_string()))?;
            self.lay_out(name, &text, mode)?;
        }
        // The library passes over a password file that a group may read, so that this one is the
        // server's user's own.
        let text = format!("*:*:*:{REPLICATION_ROLE}:{}\n", plan.replication_password);
        let file = plan.passfile();
        self.files()
            .put(&file, text.as_bytes(), false)
            .map_err(Trouble::io(file.display().to_string()))
    }

    /// Takes up what is new of the certificates, and has a server that runs do the same: who
    /// connects from here on sees it.
    ///
    /// # Errors
    /// If a file cannot be read or put where the server finds it.
    pub async fn renew_certificates(&self) -> Result<()> {
        self.write_passfile()?;
        if self.first().is_some() {
            self.reload().await
        } else {
            Ok(())
        }
    }

    /// A file that the server may read and not replace.
    fn lay_out(&self, name: &str, text: &str, mode: u32) -> Result<()> {
        let (path, group) = (
            self.plan.runtime.join(name),
            self.plan.owner.map(|(_, gid)| gid),
        );
        if std::fs::read_to_string(&path).is_ok_and(|now| now == text) {
            return Ok(());
        }
        let next = with_ending(&path, "next");
        let write = || {
            let _ = std::fs::remove_file(&next);
            let mut file = OpenOptions::new()
                .write(true)
                .create_new(true)
                .mode(0o600)
                .open(&next)?;
            file.write_all(text.as_bytes())?;
            fchown(&file, None, group)?;
            file.set_permissions(Permissions::from_mode(mode))?;
            std::fs::rename(&next, &path)
        };
        write().map_err(Trouble::io(path.display().to_string()))
    }

    /// The one line in the data directory that makes the server depend on Karst (D8).
    pub(super) fn write_include(&self) -> Result<()> {
        let server = self.plan.runtime.join("server.conf");
        let text = format!(
            "# This server is kept by Karst and does not start without it.\ninclude {}\n",
            quoted(&server.display().to_string())
        );
        let path = self.plan.data.join("postgresql.conf");
        if self.files().read_text(&path).is_ok_and(|now| now == text) {
            return Ok(());
        }
        self.files()
            .put(&path, text.as_bytes(), true)
            .map_err(Trouble::io(path.display().to_string()))
    }
}
