//! What the driver is given by the spec.

use crate::site::SiteError;
use karst_core::WorkloadId;
use karst_core::spec::WorkloadSpec;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// The server's own key, which has to be another than the node's.
pub(super) const KEY: &str = "server.key";
/// Of the replication password, in characters.
const SECRET: usize = 32;

/// What this driver needs besides the replica's place on the host.
#[derive(Clone, Debug)]
pub struct Plan {
    pub programs: PathBuf,
    pub replication_password: String,
    /// A database and the role that owns it, made with the first data.
    pub database: Option<(String, String, String)>,
    pub extra: BTreeMap<String, String>,
    /// The list of clients, where the spec has one: it is written as it is, after Karst's own lines.
    pub clients: Option<String>,
    /// A file with the CAs of clients' certificates.
    pub clients_ca: Option<PathBuf>,
    /// Directories for sockets that people use, beside Karst's own.
    pub sockets: Vec<PathBuf>,
}

impl Plan {
    /// From the spec's settings: `programs` (directory), `secret` (of the replication role),
    /// `database`, `client`, `client-secret`, `clients`, `clients-ca`, `sockets`, and `set.NAME` for server settings. Secrets are
    /// `file:` or `env:` references. `tls` holds the keys of the node and of the server.
    ///
    /// # Errors
    /// What is missing, and where.
    pub fn from_spec(
        workload: &WorkloadId,
        spec: &WorkloadSpec,
        tls: &Path,
    ) -> std::result::Result<Self, SiteError> {
        let given = |key: &'static str| spec.settings.get(key);
        let secret = |key: &'static str| {
            let reference = given(key).ok_or(SiteError::Missing {
                workload: workload.clone(),
                key,
            })?;
            read_secret(reference).map_err(|why| SiteError::Secret {
                workload: workload.clone(),
                key,
                why,
            })
        };
        let database = match (given("database"), given("client")) {
            (Some(database), Some(client)) => {
                Some((database.clone(), client.clone(), secret("client-secret")?))
            }
            _ => None,
        };
        let (node, server) = (key_in(tls, "node.key")?, key_in(tls, KEY)?);
        if node.is_some() && node == server {
            return Err(SiteError::NodesKey(tls.join(KEY)));
        }
        Ok(Self {
            programs: given("programs")
                .map_or("/usr/lib/postgresql/15/bin", String::as_str)
                .into(),
            replication_password: long_enough(workload, secret("secret")?)?,
            database,
            extra: super::settings::given(&spec.settings),
            clients: given("clients").cloned(),
            clients_ca: given("clients-ca").map(PathBuf::from),
            sockets: given("sockets")
                .map(|all| {
                    all.split(',')
                        .map(|dir| PathBuf::from(dir.trim()))
                        .collect()
                })
                .unwrap_or_default(),
        })
    }
}

/// Whoever reaches a server's port may try to log in as a standby, and what a server keeps of the
/// password bears few tries each.
fn long_enough(workload: &WorkloadId, password: String) -> std::result::Result<String, SiteError> {
    if password.len() >= SECRET {
        return Ok(password);
    }
    let why = format!(
        "it has {} characters; make one of at least {SECRET}, with `openssl rand -hex 32`",
        password.len()
    );
    Err(SiteError::Secret {
        workload: workload.clone(),
        key: "secret",
        why,
    })
}

/// What a key file holds; none where there is no such file.
fn key_in(tls: &Path, name: &str) -> std::result::Result<Option<Vec<u8>>, SiteError> {
    let path = tls.join(name);
    match std::fs::read(&path) {
        Ok(key) => Ok(Some(key)),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(SiteError::Key {
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
