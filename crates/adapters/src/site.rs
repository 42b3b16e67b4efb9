//! Where one replica is on this host, whatever program it is of.

use crate::files::Owner;
use crate::process::Processes;
use karst_core::spec::WorkloadSpec;
use karst_core::{NodeId, WorkloadId};
use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};

/// Everything about one replica that does not change while the daemon runs.
#[derive(Clone, Debug)]
pub struct Site {
    pub workload: WorkloadId,
    pub me: NodeId,
    pub address: SocketAddr,
    pub data: PathBuf,
    /// Where its log is kept, if not within its data.
    pub log: Option<PathBuf>,
    /// Where a base backup of the workload lies.
    pub base_backup: Option<PathBuf>,
    pub processes: Processes,
    /// Under the daemon's runtime directory: what the server reads and cannot replace, and below it
    /// a directory of the server's own for its socket. Gone after a reboot.
    pub runtime: PathBuf,
    /// Put before the command of every server program, to run it as the server's user.
    pub launcher: Vec<String>,
    pub owner: Option<Owner>,
    pub replicas: BTreeMap<NodeId, SocketAddr>,
    /// Where the cluster's CA is, and the server's certificate and key: servers speak to each other
    /// by TLS alone. Not the node's: with that key the server's user could speak for the node.
    pub tls: PathBuf,
    /// A server that Karst did not start may be stopped.
    pub adopt: bool,
}

/// One replica of the spec, and where what belongs to it is on this host.
#[derive(Clone, Debug)]
pub struct Placed<'a> {
    pub workload: &'a WorkloadId,
    pub spec: &'a WorkloadSpec,
    /// The node whose replica it is.
    pub me: &'a NodeId,
    /// The daemon's runtime directory.
    pub runtime: &'a Path,
    /// Of `ca.pem`, `server.pem` and `server.key`.
    pub tls: &'a Path,
    pub processes: Processes,
}

/// A spec that a driver cannot work with.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum SiteError {
    #[error("workload {workload}: `{key}` is needed by its driver")]
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
    #[error("workload {workload}: {node} has no replica of it")]
    NoReplica { workload: WorkloadId, node: NodeId },
    #[error("workload {workload}: there is no driver `{driver}`; write one of {known}")]
    NoDriver {
        workload: WorkloadId,
        driver: String,
        known: String,
    },
}

impl Site {
    /// From the spec; its settings `user` or `launcher` say as whom the server runs where this
    /// daemon is root, `usual_user` where neither is given.
    ///
    /// # Errors
    /// What is missing, and where.
    pub fn new(placed: Placed<'_>, usual_user: &str) -> Result<Self, SiteError> {
        let Placed {
            workload,
            spec,
            me,
            runtime,
            tls,
            processes,
        } = placed;
        let no_replica = || SiteError::NoReplica {
            workload: workload.clone(),
            node: me.clone(),
        };
        let replica = spec.replicas.get(me).ok_or_else(no_replica)?;
        let (launcher, owner) = runs_as(workload, spec, usual_user)?;
        Ok(Self {
            workload: workload.clone(),
            me: me.clone(),
            address: replica.address,
            data: replica.data.clone().into(),
            log: replica.log.clone().map(PathBuf::from),
            base_backup: replica.base_backup.clone().map(PathBuf::from),
            processes,
            runtime: runtime.join(workload.as_str()),
            launcher,
            owner,
            replicas: spec
                .replicas
                .iter()
                .map(|(n, r)| (n.clone(), r.address))
                .collect(),
            tls: tls.to_owned(),
            adopt: spec.adopt,
        })
    }

    /// Where the server may keep its socket.
    pub fn socket_dir(&self) -> PathBuf {
        self.runtime.join("socket")
    }
}

/// The words before a server's command, and whom its files belong to.
fn runs_as(
    workload: &WorkloadId,
    spec: &WorkloadSpec,
    usual_user: &str,
) -> Result<(Vec<String>, Option<Owner>), SiteError> {
    if let Some(words) = spec.settings.get("launcher") {
        return Ok((words.split_whitespace().map(String::from).collect(), None));
    }
    if !rustix::process::geteuid().is_root() {
        return Ok((Vec::new(), None));
    }
    let user = spec.settings.get("user").map_or(usual_user, String::as_str);
    let (uid, gid) = ids_of(user).ok_or_else(|| SiteError::NoUser {
        workload: workload.clone(),
        user: user.into(),
    })?;
    let words = [
        "setpriv".into(),
        format!("--reuid={uid}"),
        format!("--regid={gid}"),
        "--clear-groups".into(),
    ];
    Ok((words.into(), Some((uid, gid))))
}

pub(crate) fn name_of(uid: u32) -> Option<String> {
    let users = std::fs::read_to_string("/etc/passwd").ok()?;
    let is_it = |line: &&str| line.split(':').nth(2) == Some(&uid.to_string());
    let line = users.lines().find(is_it)?;
    line.split(':').next().map(String::from)
}

pub(crate) fn ids_of(user: &str) -> Option<Owner> {
    let users = std::fs::read_to_string("/etc/passwd").ok()?;
    let line = users.lines().find(|l| l.split(':').next() == Some(user))?;
    let mut fields = line.split(':').skip(2);
    Some((fields.next()?.parse().ok()?, fields.next()?.parse().ok()?))
}
