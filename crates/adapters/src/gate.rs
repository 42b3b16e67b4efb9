//! Gates: TCP proxies that clients dial instead of a server (SAFETY C8).
//!
//! The one for writers does not move during a failover: it closes the connections to the old primary
//! at once, holds new connections, and releases them to the new primary, so that a client sees a
//! pause and not an error. It forwards only while it is told to, to nobody in between, and never
//! sends a byte twice. The one for readers spreads them over those that serve them, in the same way.

use crate::seats::{Bounds, Seat, Seats};
use karst_core::gate::{GateOrder, ReadOrder};
use karst_core::replica::{GateReport, ReadReport};
use karst_core::{Epoch, NodeId};
use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use tokio::io::{Interest, copy_bidirectional};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::watch;

/// Between two tries to reach a server that does not accept connections yet.
const RETRY: Duration = Duration::from_millis(5);
/// How often it is looked whether a client is still there that has sent something and waits.
const LOOK: Duration = Duration::from_millis(250);

/// What a gate is told.
pub trait Order: Clone + Send + Sync + 'static {
    /// To whom a client is forwarded.
    type To: Clone + Ord + Send + Sync + std::fmt::Debug;
    /// What the gate says of itself.
    type Report: Clone + PartialEq + Send;

    /// New clients wait, and those who are there stay.
    fn hold() -> Self;
    /// Whom the next client may be forwarded to, and where that is.
    fn all(&self) -> Vec<(Self::To, SocketAddr)>;
    /// Whether those who were forwarded there may stay.
    fn keeps(&self, to: &Self::To) -> bool;
    fn report(&self, connections: u64, waiting: u64, refused: u64) -> Self::Report;
}

impl Order for GateOrder {
    type To = Epoch;
    type Report = GateReport;

    fn hold() -> Self {
        Self::Hold { cut: false }
    }

    fn all(&self) -> Vec<(Epoch, SocketAddr)> {
        match self {
            Self::Forward { epoch, to, .. } => vec![(*epoch, *to)],
            Self::Hold { .. } => Vec::new(),
        }
    }

    fn keeps(&self, of: &Epoch) -> bool {
        match self {
            Self::Hold { cut } => !cut,
            Self::Forward { epoch, .. } => epoch == of,
        }
    }

    fn report(&self, connections: u64, waiting: u64, refused: u64) -> GateReport {
        let forwarding = match self {
            Self::Forward { epoch, .. } => Some(*epoch),
            Self::Hold { .. } => None,
        };
        GateReport {
            listening: true,
            forwarding,
            connections,
            waiting,
            refused,
        }
    }
}

impl Order for ReadOrder {
    type To = NodeId;
    type Report = ReadReport;

    fn hold() -> Self {
        None
    }

    fn all(&self) -> Vec<(NodeId, SocketAddr)> {
        let known = self.iter().flatten();
        known.map(|(node, at)| (node.clone(), *at)).collect()
    }

    fn keeps(&self, node: &NodeId) -> bool {
        self.as_ref().is_none_or(|all| all.contains_key(node))
    }

    fn report(&self, connections: u64, waiting: u64, refused: u64) -> ReadReport {
        ReadReport {
            listening: true,
            to: self
                .iter()
                .flatten()
                .map(|(node, _)| node.clone())
                .collect(),
            connections,
            waiting,
            refused,
        }
    }
}

#[derive(Debug)]
struct Counts<To> {
    waiting: AtomicU64,
    refused: AtomicU64,
    /// Those who are forwarded, by whom to.
    flows: Mutex<BTreeMap<To, u64>>,
}

impl<To: Clone + Ord> Counts<To> {
    fn new() -> Self {
        Self {
            waiting: AtomicU64::new(0),
            refused: AtomicU64::new(0),
            flows: Mutex::new(BTreeMap::new()),
        }
    }

    fn flows<T>(&self, with: impl FnOnce(&mut BTreeMap<To, u64>) -> T) -> T {
        with(&mut self.flows.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// The one of them with the fewest clients, whom somebody has not just tried in vain.
    fn least<'a>(
        &self,
        all: &'a [(To, SocketAddr)],
        in_vain: Option<&To>,
    ) -> Option<&'a (To, SocketAddr)> {
        let others = all.len() > 1;
        self.flows(|flows| {
            all.iter()
                .filter(|(to, _)| !(others && Some(to) == in_vain))
                .min_by_key(|(to, _)| flows.get(to).copied().unwrap_or(0))
        })
    }
}

/// Counts a client who waits for as long as it lives.
struct Waits<'a>(&'a AtomicU64);

impl<'a> Waits<'a> {
    fn new(count: &'a AtomicU64) -> Self {
        count.fetch_add(1, Ordering::Relaxed);
        Self(count)
    }
}

impl Drop for Waits<'_> {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::Relaxed);
    }
}

/// Counts a client who is forwarded, or about to be, for as long as it lives.
struct Flow<'a, To: Clone + Ord>(&'a Counts<To>, To);

impl<'a, To: Clone + Ord> Flow<'a, To> {
    fn new(counts: &'a Counts<To>, to: &To) -> Self {
        counts.flows(|flows| *flows.entry(to.clone()).or_default() += 1);
        Self(counts, to.clone())
    }
}

impl<To: Clone + Ord> Drop for Flow<'_, To> {
    fn drop(&mut self) {
        self.0.flows(|flows| {
            if let Some(count) = flows.get_mut(&self.1) {
                *count -= 1;
                if *count == 0 {
                    flows.remove(&self.1);
                }
            }
        });
    }
}

/// A running gate. Dropping it closes everything.
#[derive(Debug)]
pub struct Gate<O: Order> {
    orders: watch::Sender<O>,
    counts: Arc<Counts<O::To>>,
    accepting: tokio::task::JoinHandle<()>,
}

impl<O: Order> Gate<O> {
    /// Listens on `address` and holds until told otherwise.
    ///
    /// # Errors
    /// If the address cannot be bound.
    pub async fn open(address: SocketAddr, bounds: Bounds) -> std::io::Result<Self> {
        let listener = TcpListener::bind(address).await?;
        let (orders, order) = watch::channel(O::hold());
        let counts = Arc::new(Counts::new());
        let accepting = tokio::spawn(accept(listener, order, counts.clone(), Seats::new(bounds)));
        Ok(Self {
            orders,
            counts,
            accepting,
        })
    }

    pub fn order(&self, order: O) {
        self.orders.send_replace(order);
    }

    pub fn report(&self) -> O::Report {
        let connections = self.counts.flows(|flows| flows.values().sum());
        self.orders.borrow().report(
            connections,
            self.counts.waiting.load(Ordering::Relaxed),
            self.counts.refused.load(Ordering::Relaxed),
        )
    }
}

impl<O: Order> Drop for Gate<O> {
    fn drop(&mut self) {
        self.accepting.abort();
    }
}

async fn accept<O: Order>(
    listener: TcpListener,
    orders: watch::Receiver<O>,
    counts: Arc<Counts<O::To>>,
    seats: Seats,
) {
    loop {
        match listener.accept().await {
            Ok((client, from)) => {
                // Closed at once: a client that hears nothing would wait in vain.
                match seats.take(from.ip()) {
                    Some(seat) => drop(tokio::spawn(serve(
                        client,
                        seat,
                        orders.clone(),
                        counts.clone(),
                    ))),
                    None => drop(counts.refused.fetch_add(1, Ordering::Relaxed)),
                }
            }
            Err(error) => {
                // Out of descriptors, most likely: those who wait in the backlog are taken when
                // some are free again.
                counts.refused.fetch_add(1, Ordering::Relaxed);
                tracing::warn!(%error, "gate cannot accept");
                tokio::time::sleep(RETRY).await;
            }
        }
    }
}

/// One client, from its connection to its end.
async fn serve<O: Order>(
    mut client: TcpStream,
    _seat: Seat,
    mut orders: watch::Receiver<O>,
    counts: Arc<Counts<O::To>>,
) {
    let Some((flow, mut server)) = reach(&client, &mut orders, &counts).await else {
        return;
    };
    let _ = client.set_nodelay(true);
    let _ = server.set_nodelay(true);
    tokio::select! {
        _ = copy_bidirectional(&mut client, &mut server) => {}
        () = cut(&mut orders, &flow.1) => {}
    }
}

/// Waits for somebody to forward to, and connects to it. None if the client or the gate is gone.
async fn reach<'a, O: Order>(
    client: &TcpStream,
    orders: &mut watch::Receiver<O>,
    counts: &'a Counts<O::To>,
) -> Option<(Flow<'a, O::To>, TcpStream)> {
    let _waiting = Waits::new(&counts.waiting);
    let mut in_vain: Option<O::To> = None;
    loop {
        let all = orders.borrow_and_update().all();
        let Some((to, at)) = counts.least(&all, in_vain.as_ref()) else {
            tokio::select! {
                changed = orders.changed() => changed.ok()?,
                () = gone(client) => return None,
            }
            continue;
        };
        // One that does not accept yet, or an order that changes meanwhile: look again.
        let flow = Flow::new(counts, to);
        let connected = tokio::select! {
            connected = TcpStream::connect(at) => connected,
            changed = orders.changed() => { changed.ok()?; continue }
        };
        match connected {
            Ok(server) if orders.borrow().all().iter().any(|(now, _)| now == to) => {
                return Some((flow, server));
            }
            Ok(_) => {}
            Err(_) => {
                in_vain = Some(to.clone());
                tokio::time::sleep(RETRY).await;
            }
        }
    }
}

/// Returns when the waiting client has gone away. What it sent so far stays in its socket for the
/// server.
async fn gone(client: &TcpStream) {
    loop {
        match client.ready(Interest::READABLE).await {
            Ok(ready) if !ready.is_read_closed() => {}
            _ => return,
        }
        // It has sent something, which stays readable: what may come behind that is looked for now
        // and then.
        tokio::time::sleep(LOOK).await;
    }
}

/// Returns when connections to there have to be closed.
async fn cut<O: Order>(orders: &mut watch::Receiver<O>, to: &O::To) {
    while orders.borrow_and_update().keeps(to) {
        if orders.changed().await.is_err() {
            return;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use tokio::io::{AsyncReadExt, AsyncWriteExt};

    /// A server that answers each connection with its name, then echoes.
    async fn server(name: &'static str) -> SocketAddr {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        tokio::spawn(async move {
            while let Ok((mut connection, _)) = listener.accept().await {
                tokio::spawn(async move {
                    let _ = connection.write_all(name.as_bytes()).await;
                    let (mut from, mut to) = connection.split();
                    let _ = tokio::io::copy(&mut from, &mut to).await;
                });
            }
        });
        address
    }

    /// The next bytes, as many as are expected; fewer only at the end of the connection.
    async fn hear(connection: &mut TcpStream, expected: &str) {
        let mut buffer = Vec::new();
        let most = expected.len().max(1) as u64;
        let _ = connection.take(most).read_to_end(&mut buffer).await;
        assert_eq!(String::from_utf8_lossy(&buffer), expected);
    }

    const BOUNDS: Bounds = Bounds {
        all: 4,
        per_client: 4,
    };

    fn forward(epoch: u64, to: SocketAddr) -> GateOrder {
        GateOrder::Forward {
            epoch: Epoch(epoch),
            primary: "n".into(),
            to,
        }
    }

    #[tokio::test]
    async fn clients_are_held_released_and_cut() {
        let (old, new) = (server("old").await, server("new").await);
        let port = std::net::TcpListener::bind("127.0.0.1:0")
            .unwrap()
            .local_addr()
            .unwrap();
        let gate = Gate::<GateOrder>::open(port, BOUNDS).await.unwrap();

        let mut early = TcpStream::connect(port).await.unwrap();
        early.write_all(b"hello").await.unwrap();
        while gate.report().waiting == 0 {
            tokio::task::yield_now().await;
        }
        gate.order(forward(1, old));
        hear(&mut early, "old").await;
        hear(&mut early, "hello").await; // what was sent while held, once

        gate.order(GateOrder::Hold { cut: true });
        hear(&mut early, "").await; // the old connection is closed
        let mut held = TcpStream::connect(port).await.unwrap();
        while gate.report().waiting == 0 {
            tokio::task::yield_now().await;
        }
        gate.order(forward(2, new));
        hear(&mut held, "new").await;

        // Out of touch with the coordinator: connections stay, new ones wait.
        gate.order(GateOrder::Hold { cut: false });
        held.write_all(b"still").await.unwrap();
        hear(&mut held, "still").await;
    }

    /// Whoever hangs up while it is held is let go, whether or not it has said something; and there
    /// are only so many places.
    #[tokio::test]
    async fn who_hangs_up_is_let_go_and_who_is_too_many_is_closed() {
        let port = std::net::TcpListener::bind("127.0.0.1:0")
            .unwrap()
            .local_addr()
            .unwrap();
        let gate = Gate::<GateOrder>::open(port, BOUNDS).await.unwrap();
        let waiting = async |count: u64| {
            while gate.report().waiting != count {
                tokio::time::sleep(Duration::from_millis(1)).await;
            }
        };
        let mut clients = Vec::new();
        for _ in 0..4 {
            let mut client = TcpStream::connect(port).await.unwrap();
            client.write_all(b"hello").await.unwrap();
            clients.push(client);
        }
        waiting(4).await;
        let mut fifth = TcpStream::connect(port).await.unwrap();
        hear(&mut fifth, "").await;
        assert_eq!((gate.report().waiting, gate.report().refused), (4, 1));
        clients.truncate(2);
        waiting(2).await;
        clients.clear();
        waiting(0).await;
    }

    /// Readers are spread; whoever is served by one that serves no more is closed, and nobody while
    /// nothing is known.
    #[tokio::test]
    async fn readers_are_spread_over_those_that_serve_them() {
        let (polje, uvala) = (server("polje").await, server("uvala").await);
        let port = std::net::TcpListener::bind("127.0.0.1:0")
            .unwrap()
            .local_addr()
            .unwrap();
        let gate = Gate::<ReadOrder>::open(port, BOUNDS).await.unwrap();
        let to = |all: &[(&str, SocketAddr)]| -> ReadOrder {
            Some(all.iter().map(|(n, at)| ((*n).into(), *at)).collect())
        };
        gate.order(to(&[("polje", polje), ("uvala", uvala)]));
        let mut first = TcpStream::connect(port).await.unwrap();
        hear(&mut first, "polje").await;
        let mut second = TcpStream::connect(port).await.unwrap();
        hear(&mut second, "uvala").await;
        gate.order(None);
        first.write_all(b"still").await.unwrap();
        hear(&mut first, "still").await;
        gate.order(to(&[("uvala", uvala)]));
        hear(&mut first, "").await;
        second.write_all(b"still").await.unwrap();
        hear(&mut second, "still").await;
        // One that is not there is passed over.
        let gone = std::net::TcpListener::bind("127.0.0.1:0")
            .unwrap()
            .local_addr()
            .unwrap();
        gate.order(to(&[("polje", gone), ("uvala", uvala)]));
        let mut third = TcpStream::connect(port).await.unwrap();
        hear(&mut third, "uvala").await;
        assert_eq!(gate.report().connections, 2);
        // Nobody serves them: they wait.
        gate.order(to(&[]));
        hear(&mut second, "").await;
        let mut fourth = TcpStream::connect(port).await.unwrap();
        while gate.report().waiting == 0 {
            tokio::task::yield_now().await;
        }
        gate.order(to(&[("polje", polje)]));
        hear(&mut fourth, "polje").await;
    }
}
