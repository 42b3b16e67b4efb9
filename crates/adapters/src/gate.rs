//! The gate: a TCP proxy that clients dial instead of the server (SAFETY C8).
//!
//! It does not move during a failover: it closes the connections to the old primary at once, holds new
//! connections, and releases them to the new primary, so that a client sees a pause and not an
//! error. It forwards only while it is told to, to nobody in between, and never sends a byte twice.

use crate::seats::{Bounds, Seat, Seats};
use karst_core::Epoch;
use karst_core::gate::GateOrder;
use karst_core::replica::GateReport;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;
use tokio::io::{Interest, copy_bidirectional};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::watch;

/// Between two tries to reach a primary that does not accept connections yet.
const RETRY: Duration = Duration::from_millis(5);
/// How often it is looked whether a client is still there that has sent something and waits.
const LOOK: Duration = Duration::from_millis(250);

#[derive(Debug, Default)]
struct Counts {
    connections: AtomicU64,
    waiting: AtomicU64,
    refused: AtomicU64,
}

/// Counts one thing for as long as it lives.
struct Counted<'a>(&'a AtomicU64);

impl<'a> Counted<'a> {
    fn new(count: &'a AtomicU64) -> Self {
        count.fetch_add(1, Ordering::Relaxed);
        Self(count)
    }
}

impl Drop for Counted<'_> {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::Relaxed);
    }
}

/// A running gate. Dropping it closes everything.
#[derive(Debug)]
pub struct Gate {
    orders: watch::Sender<GateOrder>,
    counts: Arc<Counts>,
    accepting: tokio::task::JoinHandle<()>,
}

impl Gate {
    /// Listens on `address` and holds until told otherwise.
    ///
    /// # Errors
    /// If the address cannot be bound.
    pub async fn open(address: SocketAddr, bounds: Bounds) -> std::io::Result<Self> {
        let listener = TcpListener::bind(address).await?;
        let (orders, order) = watch::channel(GateOrder::Hold { cut: false });
        let counts = Arc::new(Counts::default());
        let accepting = tokio::spawn(accept(listener, order, counts.clone(), Seats::new(bounds)));
        Ok(Self {
            orders,
            counts,
            accepting,
        })
    }

    pub fn order(&self, order: GateOrder) {
        self.orders.send_replace(order);
    }

    pub fn report(&self) -> GateReport {
        let forwarding = match &*self.orders.borrow() {
            GateOrder::Forward { epoch, .. } => Some(*epoch),
            GateOrder::Hold { .. } => None,
        };
        GateReport {
            listening: true,
            forwarding,
            connections: self.counts.connections.load(Ordering::Relaxed),
            waiting: self.counts.waiting.load(Ordering::Relaxed),
            refused: self.counts.refused.load(Ordering::Relaxed),
        }
    }
}

impl Drop for Gate {
    fn drop(&mut self) {
        self.accepting.abort();
    }
}

async fn accept(
    listener: TcpListener,
    orders: watch::Receiver<GateOrder>,
    counts: Arc<Counts>,
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
async fn serve(
    mut client: TcpStream,
    _seat: Seat,
    mut orders: watch::Receiver<GateOrder>,
    counts: Arc<Counts>,
) {
    let Some((epoch, mut server)) = reach(&client, &mut orders, &counts).await else {
        return;
    };
    let _ = client.set_nodelay(true);
    let _ = server.set_nodelay(true);
    let _flow = Counted::new(&counts.connections);
    tokio::select! {
        _ = copy_bidirectional(&mut client, &mut server) => {}
        () = cut(&mut orders, epoch) => {}
    }
}

/// Waits for a primary to forward to, and connects to it. None if the client or the gate is gone.
async fn reach(
    client: &TcpStream,
    orders: &mut watch::Receiver<GateOrder>,
    counts: &Counts,
) -> Option<(Epoch, TcpStream)> {
    let _waiting = Counted::new(&counts.waiting);
    loop {
        let order = orders.borrow_and_update().clone();
        let GateOrder::Forward { epoch, to, .. } = order else {
            tokio::select! {
                changed = orders.changed() => changed.ok()?,
                () = gone(client) => return None,
            }
            continue;
        };
        // A primary that does not accept yet, or an order that changes meanwhile: look again.
        let connected = tokio::select! {
            connected = TcpStream::connect(to) => connected,
            changed = orders.changed() => { changed.ok()?; continue }
        };
        match connected {
            Ok(server) if matches!(&*orders.borrow(), GateOrder::Forward { epoch: e, .. } if *e == epoch) =>
            {
                return Some((epoch, server));
            }
            Ok(_) => {}
            Err(_) => tokio::time::sleep(RETRY).await,
        }
    }
}

/// Returns when the waiting client has gone away. What it sent so far stays in its socket for the
/// primary.
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

/// Returns when connections to the primary of `epoch` have to be closed.
async fn cut(orders: &mut watch::Receiver<GateOrder>, epoch: Epoch) {
    loop {
        match &*orders.borrow_and_update() {
            GateOrder::Hold { cut: true } => return,
            GateOrder::Forward { epoch: other, .. } if *other != epoch => return,
            _ => {}
        }
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
        let gate = Gate::open(port, BOUNDS).await.unwrap();

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
        let gate = Gate::open(port, BOUNDS).await.unwrap();
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
}
