//! What handlers can reach.

use super::join::Files;
use super::sessions::Sessions;
use super::strangers::Strangers;
use super::tickets::Tickets;
use super::watchers::Live;
use super::written::Written;
use crate::heart::Heart;
use crate::judge::Judge;
use crate::measured::Measured;
use crate::peers::Disagreements;
use crate::store::Store;
use crate::tls::{Identity, Refused};
use crate::tokens::Tokens;
use bytes::Bytes;
use karst_adapters::Steps;
use karst_api::{HistoryState, HostNeed, StatusReply};
use karst_core::spec::{NodeSpec, Revision};
use karst_core::{NodeId, Spec};
use karst_history::History;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::atomic::AtomicU64;
use std::sync::{Arc, RwLock};
use std::time::Instant;
use tokio::sync::watch;

pub type Examine = Box<dyn Fn() -> std::io::Result<Vec<HostNeed>> + Send + Sync>;

/// What handlers can reach.
pub struct Service {
    pub me: NodeId,
    /// The spec in force.
    pub in_force: watch::Receiver<Arc<Revision>>,
    pub judge: Judge,
    /// What the file says of this node with which it was started.
    pub own_in_file: NodeSpec,
    /// Looks at what this host lacks; blocks for some seconds.
    pub examine: Examine,
    /// Held while it does.
    pub examining: Arc<tokio::sync::Mutex<()>>,
    /// The site's own steps on this host.
    pub steps: Steps,
    pub files: Files,
    /// This node's own.
    pub certificate_file: PathBuf,
    pub heart: Heart,
    pub store: Store,
    pub history: Option<History>,
    pub history_state: watch::Receiver<HistoryState>,
    pub disagreements: Disagreements,
    /// Keys that are nobody's any more.
    pub refused: Refused,
    pub tokens: Arc<RwLock<Tokens>>,
    pub sessions: Sessions,
    pub tickets: Tickets,
    pub identity: Arc<RwLock<Arc<Identity>>>,
    pub written: Written,
    pub measured: Arc<Measured>,
    pub strangers: Strangers,
    pub live: Live,
    pub recent: Recent,
    /// Datagrams to this node's peer port from addresses that the spec does not have.
    pub strange_datagrams: Arc<AtomicU64>,
    /// Ends event streams when the daemon stops: Actix would wait for them.
    pub stopping: watch::Receiver<bool>,
}

impl Service {
    pub fn revision(&self) -> Arc<Revision> {
        self.in_force.borrow().clone()
    }

    pub fn spec(&self) -> Arc<Spec> {
        self.in_force.borrow().spec.clone()
    }

    /// Where this service listens.
    pub fn own_address(&self) -> Option<SocketAddr> {
        let spec = self.spec();
        let own = spec.nodes.get(&self.me).unwrap_or(&self.own_in_file);
        own.api
    }

    /// Where a page may look whether another node is there (CSP).
    pub fn consoles(&self) -> String {
        let spec = self.spec();
        let urls = spec.nodes.values().filter_map(NodeSpec::console_url);
        urls.map(|url| format!(" {url}")).collect()
    }
}

/// The newest status that was asked for, and when.
#[derive(Debug, Default)]
pub struct Recent(pub tokio::sync::Mutex<Option<(Instant, Arc<Answered>)>>);

/// A status, and as it is sent.
#[derive(Debug)]
pub struct Answered {
    pub reply: StatusReply,
    pub json: Bytes,
}
