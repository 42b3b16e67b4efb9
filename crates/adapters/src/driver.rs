//! What Karst asks of a program that it keeps: one trait, implemented once for each kind.
//!
//! A driver knows its program and decides nothing. What it is told is a
//! [`karst_core::replica::Action`]; finding, starting and ending processes is the same for all of
//! them, and is done by [`crate::server::Server`].

use crate::trouble::{Result, Trouble};
use async_trait::async_trait;
use karst_core::replica::{Data, Done, Observation, Promotion, SyncSetting};
use karst_core::safetypoint::Mark;
use karst_core::spec::WorkloadSpec;
use karst_core::{History, NodeId, Position};
use std::net::SocketAddr;
use std::path::{Path, PathBuf};

/// Where a client connects: an address or a name, and a port.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Target {
    pub host: String,
    pub port: u16,
}

impl From<SocketAddr> for Target {
    fn from(at: SocketAddr) -> Self {
        Self {
            host: at.ip().to_string(),
            port: at.port(),
        }
    }
}

impl std::fmt::Display for Target {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        if self.host.contains(':') {
            write!(f, "[{}]:{}", self.host, self.port)
        } else {
            write!(f, "{}:{}", self.host, self.port)
        }
    }
}

/// Whom a client reaches at the addresses that it is given.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reach {
    /// Each leads where the client wants to go.
    Through,
    /// They are the servers' own, and the client has to find the primary among them.
    Primary,
    /// The same, and a standby is better.
    Reader,
}

/// As what a server is started.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Start {
    /// It lets no write return until it is told whom writes wait for (D4).
    Primary,
    /// One that follows nobody until it is told, if none is named.
    Standby { upstream: Option<NodeId> },
    /// A standby that goes up to the point of that name, and no further.
    HeldBack {
        upstream: Option<NodeId>,
        label: String,
    },
}

/// How far a server came that has ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Life {
    Served,
    NeverUp,
}

/// A server's program and its arguments.
#[derive(Clone, Debug)]
pub struct Launch {
    pub program: PathBuf,
    pub arguments: Vec<String>,
}

/// One kind of program. Every call is idempotent; dropping its future abandons it at the next
/// await.
#[async_trait]
pub trait Driver: std::fmt::Debug + Send + Sync {
    /// What is in the data directory.
    fn data(&self) -> Data;

    /// What stands in the way of keeping a server here by this spec, each with what to do about it;
    /// `before` is what the spec in force says of the workload, if it says anything.
    async fn obstacles(&self, before: Option<&WorkloadSpec>) -> Vec<String>;

    /// Whose copies the data are; none where nobody can tell.
    fn identity(&self) -> Option<String>;

    /// Whether a server that runs on the data was started by somebody else: it is not spoken to.
    fn is_strange(&self) -> bool;

    /// Makes the first data where there are none. The data directory appears when it is complete,
    /// so that a try that was cut short leaves either nothing or a whole one.
    async fn create(&self) -> Result<()>;

    /// What has to be in a new workload's server besides, once that runs.
    async fn furnish(&self) -> Result<()>;

    /// Writes what the server reads, and says how it is started.
    async fn prepare(&self, start: Start) -> Result<Launch>;

    /// Whether a server that was started can be spoken to.
    async fn answers(&self) -> bool;

    /// What a running server is, and how far.
    async fn probe(&self) -> Observation;

    /// What it runs, which has to be on the host.
    fn programs(&self) -> Vec<PathBuf>;

    /// The program's version, as a running server said last.
    fn version(&self) -> Option<String>;

    /// Makes the stop that follows short, while clients still write.
    async fn checkpoint(&self) -> Result<()>;

    /// Asks the running server to stop cleanly: that it has is seen by its exit.
    async fn ask_to_stop(&self) -> Result<()>;

    /// Where a clean stop ended the log; none if it was not clean.
    async fn clean_end(&self) -> Result<Option<u64>>;

    /// Stops receiving, applies all that was received, and says how far it is for good (D6).
    async fn settle(&self, enough: Option<u64>) -> Result<Position>;

    /// Becomes primary on a new history, or says on which one it is already (D10). Writes stay
    /// locked until [`Driver::set_sync`].
    async fn promote(&self, after: Option<&History>) -> Result<Promotion>;

    /// Makes commits wait for these standbys, all of them (D1), and returns when each has
    /// everything written so far. A late setting is refused (D2).
    async fn set_sync(&self, setting: SyncSetting) -> Result<()>;

    /// Follows `upstream`, and returns when it streams.
    async fn repoint(&self, upstream: NodeId) -> Result<()>;

    /// Brings the stopped server's data back to where its history and the other's part, or says
    /// that only a copy can ([`Done::MustClone`]).
    async fn rewind(&self, to: &NodeId) -> Result<Done>;

    /// Copies the other's data beside its own ones, ends what runs on those, and puts the copy in
    /// their place. What runs goes on until then.
    async fn copy_from(&self, from: &NodeId) -> Result<()>;

    /// Makes the first data from a base backup in a directory of this host, to follow `primary` from
    /// there, or says that it is of no use ([`Done::MustClone`]).
    async fn restore(&self, _from: &Path, _primary: &NodeId) -> Result<Done> {
        let why = "its program makes no base backups".into();
        Ok(Done::MustClone { why })
    }

    /// Whether a standby of its kind can be held back at a point in its primary's log.
    fn can_hold_back(&self) -> bool {
        false
    }
    /// Writes a point of that name into a primary's log, and says where it is once whoever confirms
    /// writes has it.
    async fn mark(&self, _label: &str) -> Result<Position> {
        Err(Trouble::Wrong("its log has no points with names".into()))
    }
    /// Waits until a standby that was started for it is at the point, and has it follow nobody.
    async fn hold_back(&self, _mark: &Mark) -> Result<()> {
        Err(Trouble::Wrong("it cannot be held back".into()))
    }
    /// What its log, of which this is the end, says of the reason why it ended.
    fn reason(&self, log: &str, life: Life) -> Option<String>;

    /// Takes up what is new of the certificates, and has a server that runs do the same.
    async fn renew_certificates(&self) -> Result<()>;
}
