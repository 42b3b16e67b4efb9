//! Whether a server's host is reached from here. Between two hosts the link may be broken while all
//! others hear both: then nothing moves by itself, and each connection waits for its segments to be
//! sent again, later and later.

use super::order::Order;
use karst_core::gate::Target;
use rustix::net::sockopt;
use std::collections::{BTreeMap, BTreeSet};
use std::net::SocketAddr;
use std::time::Duration;
use tokio::net::TcpStream;
use tokio::sync::watch;

/// A host of the same site answers a connection within this, however busy: its kernel does.
const PATIENCE: Duration = Duration::from_millis(400);
/// The pause between two tries of a server.
const AGAIN: Duration = Duration::from_millis(100);
/// An idle connection is asked after so long, and so often, whether the other end is there.
const ASK_AFTER: Duration = Duration::from_secs(10);
const ASK_EVERY: Duration = Duration::from_secs(2);
const ASK_TIMES: u32 = 3;
/// A server that has acknowledged nothing for so long never will.
const SERVER_LIMIT: Duration = Duration::from_secs(15);
/// A client may stop reading for longer than a server: somebody pages through what it was sent.
pub const CLIENT_LIMIT: Duration = Duration::from_secs(900);

/// So many tries in vain count also where nobody says that the way is broken.
const TRIES: u32 = 3;

/// A gate's order, and what the gate found out.
#[derive(Clone, Debug)]
pub struct State<O: Order> {
    pub order: O,
    /// The servers whose hosts did not answer, and how often in a row.
    silent: BTreeMap<O::To, u32>,
}

impl<O: Order> State<O> {
    pub fn new(order: O) -> Self {
        Self {
            order,
            silent: BTreeMap::new(),
        }
    }

    pub fn take(&mut self, order: O) {
        let all = order.all();
        self.silent
            .retain(|to, _| all.iter().any(|(now, _)| now == to));
        self.order = order;
    }

    /// Takes the result of a try; returns whether that is news.
    pub fn note(&mut self, to: &O::To, silent: bool) -> bool {
        let before = self.is_lost(to);
        if !silent {
            self.silent.remove(to);
        } else if self.order.all().iter().any(|(now, _)| now == to) {
            *self.silent.entry(to.clone()).or_default() += 1;
        }
        before != self.is_lost(to)
    }

    /// It is not reached from here.
    pub fn is_lost(&self, to: &O::To) -> bool {
        let cut = |of: &O::To| {
            let all = self.order.all();
            all.iter().any(|(now, target)| now == of && target.cut)
        };
        let tries = self.silent.get(to).copied().unwrap_or(0);
        tries >= TRIES || (tries > 0 && cut(to))
    }

    /// The servers that are not reached.
    pub fn lost(&self) -> BTreeSet<O::To> {
        let silent = self.silent.keys();
        silent.filter(|to| self.is_lost(to)).cloned().collect()
    }

    /// The servers to try now.
    fn to_try(&self) -> Vec<(O::To, Target)> {
        let all = self.order.all().into_iter();
        all.filter(|(to, target)| target.doubted || self.silent.contains_key(to))
            .collect()
    }
}

/// Why a server was not connected to.
#[derive(Debug)]
pub enum Failure {
    /// Its host said nothing, or nobody knows the way to it.
    Silence,
    /// Its host answered that nothing listens there, or something else of this host failed.
    Refused,
}

/// A connection to a server.
///
/// # Errors
/// It was refused, or nothing came back.
pub async fn connect(at: SocketAddr) -> Result<TcpStream, Failure> {
    use std::io::ErrorKind::{HostUnreachable, NetworkUnreachable, TimedOut};
    match tokio::time::timeout(PATIENCE, TcpStream::connect(at)).await {
        Ok(Ok(server)) => {
            notice_silence(&server, SERVER_LIMIT);
            Ok(server)
        }
        Ok(Err(error))
            if [HostUnreachable, NetworkUnreachable, TimedOut].contains(&error.kind()) =>
        {
            Err(Failure::Silence)
        }
        Ok(Err(_)) => Err(Failure::Refused),
        Err(_) => Err(Failure::Silence),
    }
}

/// Has the kernel give a connection up whose other end is gone (RFC 5482, and keepalives). Where it
/// cannot, the connection lives on as before.
pub fn notice_silence(stream: &TcpStream, limit: Duration) {
    let millis = u32::try_from(limit.as_millis()).unwrap_or(u32::MAX);
    let set = || {
        sockopt::set_tcp_user_timeout(stream, millis)?;
        sockopt::set_tcp_keepidle(stream, ASK_AFTER)?;
        sockopt::set_tcp_keepintvl(stream, ASK_EVERY)?;
        sockopt::set_tcp_keepcnt(stream, ASK_TIMES)?;
        sockopt::set_socket_keepalive(stream, true)
    };
    if let Err(error) = set() {
        tracing::debug!(%error, "a connection is not watched for silence");
    }
}

/// Tries those that are doubted or not reached, until they are. Ends with its gate.
pub async fn keep_trying<O: Order>(state: watch::Sender<State<O>>) {
    let mut orders = state.subscribe();
    loop {
        let all = orders.borrow_and_update().to_try();
        if all.is_empty() {
            if orders.changed().await.is_err() {
                return;
            }
            continue;
        }
        let tries = all.into_iter().map(|(to, target)| async move {
            let silent = matches!(connect(target.at).await, Err(Failure::Silence));
            (to, silent)
        });
        for (to, silent) in futures_util::future::join_all(tries).await {
            state.send_if_modified(|state| state.note(&to, silent));
        }
        tokio::time::sleep(AGAIN).await;
    }
}
