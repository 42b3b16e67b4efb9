//! Gates: TCP proxies that clients dial instead of a server (SAFETY C8).
//!
//! The one for writers does not move during a failover: it closes the connections to the old primary
//! at once, holds new connections, and releases them to the new primary, so that a client sees a
//! pause and not an error. It forwards only while it is told to, to nobody in between, and never
//! sends a byte twice. The one for readers spreads them over those that serve them, in the same way.
//!
//! A gate whose way to a server is broken would keep its clients waiting until their segments have
//! backed off, while all others think well of it. So it tries ([`reach`]), cuts them, and lets
//! new ones go round by another gate.

mod order;
mod reach;

pub use order::{Clients, Order};

use crate::seats::{Bounds, Seat, Seats};
use reach::State;
use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use tokio::io::{Interest, copy_bidirectional};
use tokio::net::{TcpListener, TcpSocket, TcpStream};
use tokio::sync::watch;

/// Between two tries to reach a server that does not accept connections yet.
const RETRY: Duration = Duration::from_millis(5);
/// Connections that the kernel completes before the gate has accepted them, at most (listen(2); the
/// host's net.core.somaxconn bounds it too). Clients that found no address for a while repeat their
/// SYNs within the same few milliseconds, and a SYN that is dropped costs its client one more second.
const BACKLOG: u32 = 4096;
/// How often it is looked whether a client is still there that has sent something and waits.
const LOOK: Duration = Duration::from_millis(250);

/// How a client gets to a server.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Way {
    Straight(SocketAddr),
    /// By another gate.
    Round(SocketAddr),
}

impl Way {
    fn at(self) -> SocketAddr {
        match self {
            Self::Straight(at) | Self::Round(at) => at,
        }
    }
}

/// Where the next client may go: straight to those that are reached, or else round.
fn ways<O: Order>(state: &State<O>) -> Vec<(O::To, Way)> {
    let all = state.order.all();
    let round = state.order.round().map(Way::Round);
    let reached = |to: &O::To| !state.is_lost(to);
    let ways = all.into_iter().filter_map(|(to, target)| {
        let straight = reached(&to).then_some(Way::Straight(target.at));
        Some((to, straight.or(round)?))
    });
    ways.collect()
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
    fn least<'a>(&self, all: &'a [(To, Way)], in_vain: Option<&To>) -> Option<&'a (To, Way)> {
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
    state: watch::Sender<State<O>>,
    counts: Arc<Counts<O::To>>,
    tasks: [tokio::task::JoinHandle<()>; 2],
}

impl<O: Order> Gate<O> {
    /// Listens on `address` and holds until told otherwise.
    ///
    /// # Errors
    /// If the address cannot be bound.
    pub async fn open(address: SocketAddr, bounds: Bounds) -> std::io::Result<Self> {
        let listener = listen(address)?;
        let (state, _) = watch::channel(State::new(O::hold()));
        let counts = Arc::new(Counts::new());
        let seats = Seats::new(bounds);
        let accepting = accept(listener, state.clone(), counts.clone(), seats);
        let trying = reach::keep_trying(state.clone());
        Ok(Self {
            state,
            counts,
            tasks: [tokio::spawn(accepting), tokio::spawn(trying)],
        })
    }

    pub fn order(&self, order: O) {
        self.state.send_modify(|state| state.take(order));
    }

    pub fn report(&self) -> O::Report {
        let clients = Clients {
            connections: self.counts.flows(|flows| flows.values().sum()),
            waiting: self.counts.waiting.load(Ordering::Relaxed),
            refused: self.counts.refused.load(Ordering::Relaxed),
        };
        let state = self.state.borrow();
        state.order.report(&state.lost(), clients)
    }

    /// Returns when the gate has found out something of itself: that it reaches a server, or does not.
    pub fn changed(&self) -> impl Future<Output = ()> + use<O> {
        let mut state = self.state.subscribe();
        let before = state.borrow_and_update().lost();
        async move {
            // A gate that is gone has nothing more to say.
            if state.wait_for(|now| now.lost() != before).await.is_err() {
                std::future::pending().await
            }
        }
    }
}

impl<O: Order> Drop for Gate<O> {
    fn drop(&mut self) {
        self.tasks.iter().for_each(tokio::task::JoinHandle::abort);
    }
}

fn listen(address: SocketAddr) -> std::io::Result<TcpListener> {
    let socket = if address.is_ipv4() {
        TcpSocket::new_v4()?
    } else {
        TcpSocket::new_v6()?
    };
    // A gate that starts again does not wait until its last connections are forgotten.
    socket.set_reuseaddr(true)?;
    socket.bind(address)?;
    socket.listen(BACKLOG)
}

async fn accept<O: Order>(
    listener: TcpListener,
    state: watch::Sender<State<O>>,
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
                        state.clone(),
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
    state: watch::Sender<State<O>>,
    counts: Arc<Counts<O::To>>,
) {
    reach::notice_silence(&client, reach::CLIENT_LIMIT);
    let mut orders = state.subscribe();
    let Some((flow, way, mut server)) = find_a_way(&client, &state, &mut orders, &counts).await
    else {
        return;
    };
    let _ = client.set_nodelay(true);
    let _ = server.set_nodelay(true);
    tokio::select! {
        _ = copy_bidirectional(&mut client, &mut server) => {}
        () = cut(&mut orders, &flow.1, way) => {}
    }
}

/// Waits for somebody to forward to, and connects to it. None if the client or the gate is gone.
async fn find_a_way<'a, O: Order>(
    client: &TcpStream,
    state: &watch::Sender<State<O>>,
    orders: &mut watch::Receiver<State<O>>,
    counts: &'a Counts<O::To>,
) -> Option<(Flow<'a, O::To>, Way, TcpStream)> {
    let _waiting = Waits::new(&counts.waiting);
    let mut in_vain: Option<O::To> = None;
    loop {
        let all = ways(&orders.borrow_and_update());
        let Some((to, way)) = counts.least(&all, in_vain.as_ref()) else {
            tokio::select! {
                changed = orders.changed() => changed.ok()?,
                () = gone(client) => return None,
            }
            continue;
        };
        // One that does not accept yet, or an order that changes meanwhile: look again.
        let flow = Flow::new(counts, to);
        let connected = tokio::select! {
            connected = reach::connect(way.at()) => connected,
            changed = orders.changed() => { changed.ok()?; continue }
        };
        let still = |all: &[(O::To, Way)]| all.contains(&(to.clone(), *way));
        match connected {
            Ok(server) if still(&ways(&orders.borrow())) => {
                return Some((flow, *way, server));
            }
            Ok(_) => {}
            Err(reach::Failure::Silence) if matches!(way, Way::Straight(_)) => {
                state.send_if_modified(|state| state.note(to, true));
            }
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
async fn cut<O: Order>(orders: &mut watch::Receiver<State<O>>, to: &O::To, way: Way) {
    let straight = matches!(way, Way::Straight(_));
    let over = |state: &State<O>| !state.order.keeps(to) || (straight && state.is_lost(to));
    // The gate is gone.
    let _ = orders.wait_for(over).await;
}

#[cfg(test)]
mod tests {
    use super::*;
    use karst_core::Epoch;
    use karst_core::gate::{GateOrder, ReadOrder, Target};
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

    fn sure(at: SocketAddr) -> Target {
        let (doubted, cut) = (false, false);
        Target { at, doubted, cut }
    }

    fn forward(epoch: u64, to: SocketAddr) -> GateOrder {
        GateOrder::Forward {
            epoch: Epoch(epoch),
            primary: "n".into(),
            to: sure(to),
            round: None,
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

    /// Clients of an address that is back dial within the same few milliseconds. The kernel drops none of
    /// their SYNs while the gate has not come to accept.
    #[tokio::test]
    async fn many_dial_at_once_and_none_has_to_dial_again() {
        let listener = listen("127.0.0.1:0".parse().unwrap()).unwrap();
        let (at, sooner) = (listener.local_addr().unwrap(), Duration::from_millis(900));
        let dial = |_| std::net::TcpStream::connect_timeout(&at, sooner);
        let dialled: std::io::Result<Vec<_>> = (0..600).map(dial).collect();
        dialled.unwrap();
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
            Some(all.iter().map(|(n, at)| ((*n).into(), sure(*at))).collect())
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

    /// A server whose host does not answer the next client: its queue is full.
    async fn silent() -> (SocketAddr, TcpListener, Vec<TcpStream>) {
        let socket = tokio::net::TcpSocket::new_v4().unwrap();
        socket.bind("127.0.0.1:0".parse().unwrap()).unwrap();
        let listener = socket.listen(1).unwrap();
        let at = listener.local_addr().unwrap();
        let mut queued = Vec::new();
        let next = || tokio::time::timeout(Duration::from_millis(200), TcpStream::connect(at));
        while let Ok(connection) = next().await {
            queued.push(connection.unwrap());
        }
        (at, listener, queued)
    }

    /// The way to the primary's host is broken: clients there are cut, new ones go round by another
    /// gate, and straight again once the host answers.
    #[tokio::test]
    async fn clients_of_a_broken_way_go_round() {
        let (other, (at, listener, queued)) = (server("round").await, silent().await);
        let port = std::net::TcpListener::bind("127.0.0.1:0")
            .unwrap()
            .local_addr()
            .unwrap();
        let gate = Gate::<GateOrder>::open(port, BOUNDS).await.unwrap();
        let order = |cut, round| GateOrder::Forward {
            epoch: Epoch(1),
            primary: "n".into(),
            to: Target {
                at,
                doubted: true,
                cut,
            },
            round,
        };
        let found = gate.changed();
        gate.order(order(true, None));
        found.await;
        let report = gate.report();
        assert!(
            report.unreachable && report.forwarding.is_none(),
            "{report:?}"
        );
        let mut client = TcpStream::connect(port).await.unwrap();
        gate.order(order(true, Some(other)));
        hear(&mut client, "round").await;
        assert_eq!(gate.report().forwarding, Some(Epoch(1)));
        // It answers again: the client that goes round stays, and the next one goes straight.
        let found = gate.changed();
        drop(queued);
        let accepting = tokio::spawn(async move {
            loop {
                let (mut connection, _) = listener.accept().await.unwrap();
                let _ = connection.write_all(b"straight").await;
            }
        });
        found.await;
        assert!(!gate.report().unreachable);
        client.write_all(b"still").await.unwrap();
        hear(&mut client, "still").await;
        let mut next = TcpStream::connect(port).await.unwrap();
        hear(&mut next, "straight").await;
        accepting.abort();
    }
}
