//! Peers: one UDP port, QUIC (RFC 9000) with mutual TLS.
//!
//! Every node dials every other and sends on the connection that it dialled. What the next
//! heartbeat says again goes in [`sealed`] datagrams beside QUIC, everything else in order on one
//! stream. Messages are CBOR (RFC 8949), on the stream behind a four-byte length, in a datagram one
//! after the other (RFC 8742). The first frame says which cluster and spec the sender belongs to: a
//! node with another spec file is refused and named.
//!
//! Strangers get nothing done: what does not come from an address of the spec is dropped unread,
//! and a peer's address proves itself (RFC 9000, section 8.1.2) before a handshake is begun with
//! it, of which each may have a few under way.

mod asked;
mod frame;
mod logged;
mod refused;
mod sealed;
mod window;

use crate::judge::Judge;
use crate::lock::lock;
use crate::tls::{self, Identity, Refused};
use crate::tokens::Tokens;
use anyhow::{Context, Result};
use asked::{heard, is_people};
use frame::{encode, read_frame};
use karst_core::message::Message;
use karst_core::spec::{Spec, Timings};
use karst_core::state::Departed;
use karst_core::{Input, NodeId};
use logged::{looked_at, revisions};
use quinn::crypto::rustls::{QuicClientConfig, QuicServerConfig};
use quinn::{
    Connection, Endpoint, EndpointConfig, SendStream, TokioRuntime, TransportConfig, VarInt,
};
use refused::{is_refused, part, shown_on, told_by, until_refused};
use sealed::{Came, Places, Port, Sealer};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::atomic::AtomicU64;
use std::sync::{Arc, Mutex, RwLock};
use std::time::{Duration, Instant};
use tokio::sync::{Notify, mpsc, watch};

/// Messages waiting for one peer; more are dropped, and the protocol repeats what matters.
const QUEUE: usize = 512;
/// Questions and answers waiting for one peer.
const PEOPLE: usize = 32;
/// For so long whoever is a peer no more is still heard.
const PARTING: Duration = Duration::from_secs(3);
const DIAL_LIMIT: Duration = Duration::from_millis(400);
/// Handshakes that one peer address may have under way: its dialler has one, and a run before it
/// may have left some.
const HANDSHAKES: usize = 4;
const DIAL_PAUSE: Duration = Duration::from_millis(50);
/// How long QUIC itself bears a silence. Sealed datagrams tell much sooner whether a peer is there;
/// this is for a connection that works in one direction only.
const QUIET: Duration = Duration::from_secs(9);

/// Whoever was told that it is no node any more dials no sooner again.
const REMOVED_PAUSE: Duration = Duration::from_secs(5);

/// The first frame on every connection.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Hello {
    pub cluster: String,
    /// SHA-256 of the spec file, as long as the log says nothing of any: nodes that form a cluster
    /// have the same one.
    pub given: Option<String>,
    /// Of this run of the daemon. A new one means that connections to the run before lead nowhere.
    pub run: u64,
}

/// The connections on which this node talks to its peers now.
#[derive(Clone, Default)]
pub struct Links(Arc<Mutex<BTreeMap<NodeId, Connection>>>);

impl Links {
    /// The largest packet that is known to reach a peer whole (RFC 8899); none while nothing does.
    pub fn packet_to(&self, node: &NodeId) -> Option<u16> {
        let all = lock(&self.0);
        let open = all.get(node).filter(|c| c.close_reason().is_none())?;
        Some(open.stats().path.current_mtu)
    }
}

/// Peers that were refused, with the reason; shown as findings.
pub type Disagreements = Arc<Mutex<BTreeMap<NodeId, String>>>;

/// What waits to be sent to one peer. What people ask and are answered has a queue and a stream of
/// its own: it may be long, and there may be much of it, and consensus waits for none of it.
struct Queues {
    /// Where the peer is dialled.
    address: SocketAddr,
    talk: mpsc::Sender<Message>,
    people: mpsc::Sender<Message>,
}

/// The other end of them.
struct Waiting {
    talk: mpsc::Receiver<Message>,
    people: mpsc::Receiver<Message>,
}

/// The sending side.
pub struct Peers {
    queues: BTreeMap<NodeId, Queues>,
    /// Those that are peers no more, and since when: they are heard for a moment still, so that the
    /// last word to them, which says so, arrives.
    parting: Vec<(Instant, NodeId, Queues)>,
    endpoint: Endpoint,
    /// Where this node is heard.
    address: SocketAddr,
    spec: Arc<Spec>,
    /// Peers that the spec does not name, and for whom members vouch (V7).
    vouched: Addresses,
    /// Keys that speak for nobody, by the log.
    gone: Departed,
    local: Arc<Local>,
    port: Arc<Port>,
    pub disagreements: Disagreements,
    pub links: Links,
    pub refused: Refused,
    pub renewal: Renewal,
    /// Datagrams that were dropped unread, as they came from addresses outside the spec.
    pub strangers: Arc<AtomicU64>,
}

/// Takes up other certificates while connections live: each is made anew, so that nobody goes on
/// who was revoked.
#[derive(Clone)]
pub struct Renewal {
    endpoint: Endpoint,
    client: watch::Sender<quinn::ClientConfig>,
    me: NodeId,
    tell: Tell,
}

impl Renewal {
    /// # Errors
    /// If they are of no use: then nothing has changed.
    pub fn renew(&self, identity: &Identity) -> Result<()> {
        let (server, client) = configurations(identity)?;
        let (node, key) = (self.me.clone(), identity.key()?);
        (self.tell)(Input::Shown { node, key });
        self.endpoint.set_server_config(Some(server));
        self.client.send_replace(client);
        Ok(())
    }
}

fn configurations(identity: &Identity) -> Result<(quinn::ServerConfig, quinn::ClientConfig)> {
    let server = QuicServerConfig::try_from(identity.peer_server()?).context("TLS for QUIC")?;
    let mut server = quinn::ServerConfig::with_crypto(Arc::new(server));
    server.transport_config(Arc::new(transport()));
    let mut client = quinn::ClientConfig::new(Arc::new(QuicClientConfig::try_from(
        identity.peer_client()?,
    )?));
    let mut dialling = transport();
    dialling.keep_alive_interval(Some(QUIET / 3));
    client.transport_config(Arc::new(dialling));
    Ok((server, client))
}

/// Where what was heard goes.
type Tell = Arc<dyn Fn(Input) + Send + Sync>;

struct Local {
    me: NodeId,
    tell: Tell,
    refused: Refused,
    hello: Mutex<Hello>,
    port: Arc<Port>,
    silence: Mutex<Duration>,
    disagreements: Disagreements,
    links: Links,
    /// The newest run of each peer, and how to tell its dialler of a newer one: QUIC itself would
    /// notice a peer that was killed and started again only after the idle time.
    runs: Mutex<BTreeMap<NodeId, u64>>,
    restarted: Mutex<BTreeMap<NodeId, Arc<Notify>>>,
    /// With what peers are dialled; another one means that all connections are made anew.
    client: watch::Receiver<quinn::ClientConfig>,
    asked: Asked,
}

/// A node answers questions of people that peers pass on with these.
pub struct Asked {
    pub tokens: Arc<RwLock<Tokens>>,
    pub judge: Judge,
}

impl Local {
    /// What wakes whoever talks to a peer when that was started again.
    fn restarted(&self, node: &NodeId) -> Arc<Notify> {
        lock(&self.restarted)
            .entry(node.clone())
            .or_default()
            .clone()
    }

    fn silence(&self) -> Duration {
        *lock(&self.silence)
    }
}

type Addresses = BTreeMap<NodeId, SocketAddr>;

/// The peers that the spec names, and those for whom members vouch.
fn peers_of(spec: &Spec, vouched: &Addresses) -> Addresses {
    let named = spec.nodes.iter().map(|(name, node)| (name, node.peer));
    let vouched = vouched.iter().map(|(name, at)| (name, *at));
    vouched
        .chain(named)
        .map(|(name, at)| (name.clone(), at))
        .collect()
}

impl Peers {
    /// Binds this node's peer address, which may be none of the spec's; `receive` gets what the others say. They are dialled from
    /// [`Peers::reshape`] on.
    ///
    /// # Errors
    /// If the address cannot be bound, or the certificates are of no use.
    pub fn start(
        me: &NodeId,
        address: SocketAddr,
        spec: &Spec,
        digest: &str,
        (identity, asked): (&Identity, Asked),
        receive: impl Fn(Input) + Clone + Send + Sync + 'static,
    ) -> Result<Self> {
        let (server, client) = configurations(identity)?;
        let tell: Tell = Arc::new(receive.clone());
        let (node, key) = (me.clone(), identity.key()?);
        tell(Input::Shown { node, key });
        let hear = receive.clone();
        let named = peers_of(spec, &Addresses::new());
        let own = Places::new(named.iter().map(|(n, at)| (n, *at)), me);
        let port = Port::bind(address, own, move |from, came, mut said| {
            while let Ok(message) = ciborium::from_reader::<Message, _>(&mut said) {
                // Questions and revisions are looked at off this thread, so each has its stream.
                let on_streams = is_people(&message) || !revisions(&message).is_empty();
                // A beat says that the direct way works.
                if (came == Came::Directly || !message.is_beat()) && !on_streams {
                    hear(Input::Received {
                        from: from.clone(),
                        message,
                    });
                }
            }
        });
        let port = Arc::new(port.with_context(|| format!("peer address {address}"))?);
        let mut config = EndpointConfig::default();
        config.grease_quic_bit(false);
        let runtime = Arc::new(TokioRuntime);
        let endpoint =
            Endpoint::new_with_abstract_socket(config, Some(server), port.clone(), runtime)?;
        let renewal = Renewal {
            endpoint: endpoint.clone(),
            client: watch::Sender::new(client),
            me: me.clone(),
            tell: tell.clone(),
        };

        let (disagreements, links) = (Disagreements::default(), Links::default());
        let refused = Refused::default();
        let local = Arc::new(Local {
            me: me.clone(),
            tell,
            refused: refused.clone(),
            port: port.clone(),
            silence: Mutex::new(silence(spec)),
            hello: Mutex::new(Hello {
                cluster: spec.cluster.clone(),
                given: Some(digest.into()),
                run: rand::random(),
            }),
            disagreements: disagreements.clone(),
            links: links.clone(),
            runs: Mutex::default(),
            restarted: Mutex::default(),
            client: renewal.client.subscribe(),
            asked,
        });
        tokio::spawn(accept(endpoint.clone(), local.clone(), receive));
        let strangers = port.strangers.clone();
        Ok(Self {
            queues: BTreeMap::new(),
            parting: Vec::new(),
            endpoint,
            address,
            spec: Arc::new(spec.clone()),
            vouched: Addresses::new(),
            gone: Departed::default(),
            local,
            port,
            disagreements,
            links,
            refused,
            renewal,
            strangers,
        })
    }

    /// From here on these are the peers: each is dialled at its address, on the tokio runtime around
    /// it, and whoever is none any more is talked to no longer.
    pub fn reshape(&mut self, spec: &Spec, is_logged: bool) {
        if is_logged {
            lock(&self.local.hello).given = None;
        }
        *lock(&self.local.silence) = silence(spec);
        self.spec = Arc::new(spec.clone());
        let own = spec.nodes.get(&self.local.me).map(|node| node.peer);
        if own.is_some_and(|own| own != self.address) {
            tracing::error!(
                "this node's own peer address is another one: it is taken up at a restart"
            );
        }
        self.meet();
    }

    /// These are peers too, and nobody else whom the spec does not name (V7).
    pub fn reach(&mut self, vouched: Addresses) {
        self.vouched = vouched;
        self.set_refused();
        self.meet();
    }

    /// These keys speak for nobody: connections with them end soon, and no other begins.
    pub fn refuse(&mut self, gone: Departed) {
        self.gone = gone;
        self.set_refused();
        self.set_places();
    }

    /// Of whom others say that it votes by now (V7) is not kept out by what this log says so far.
    fn set_refused(&self) {
        let mut gone = self.gone.clone();
        gone.keys
            .retain(|_, gone| !self.vouched.contains_key(&gone.node));
        self.local.refused.set(gone);
    }

    /// Dials whoever is a peer by now, and lets go of whoever is none any more.
    fn meet(&mut self) {
        let peers = peers_of(&self.spec, &self.vouched);
        let gone = |_: &NodeId, queues: &mut Queues| {
            let known = peers.values().any(|at| *at == queues.address);
            !known
        };
        let now = Instant::now();
        let parting = self.queues.extract_if(.., gone);
        self.parting
            .extend(parting.map(|(node, queues)| (now, node, queues)));
        self.queues
            .retain(|node, queues| peers.get(node) == Some(&queues.address));
        let local = &self.local;
        for (node, address) in peers.iter().filter(|(n, _)| **n != local.me) {
            if self.queues.contains_key(node) {
                continue;
            }
            let ((talk, talk_waits), (people, people_wait)) =
                (mpsc::channel(QUEUE), mpsc::channel(PEOPLE));
            let waiting = Waiting {
                talk: talk_waits,
                people: people_wait,
            };
            tokio::spawn(dial(
                self.endpoint.clone(),
                node.clone(),
                *address,
                local.clone(),
                waiting,
            ));
            let queues = Queues {
                address: *address,
                talk,
                people,
            };
            self.queues.insert(node.clone(), queues);
        }
        self.set_places();
    }

    fn set_places(&self) {
        let peers = peers_of(&self.spec, &self.vouched);
        let now = peers.iter().map(|(node, at)| (node, *at));
        let parting = self.parting.iter();
        let parting = parting.map(|(_, node, queues)| (node, queues.address));
        let parting = parting.filter(|(node, _)| !peers.contains_key(*node));
        let places = Places::new(now.chain(parting), &self.local.me);
        self.port
            .set_places(places.heard_from(self.local.refused.places()));
    }

    /// Queues a message; a full queue drops it.
    pub fn send(&mut self, to: &NodeId, message: Message) {
        let late = |(since, ..): &mut (Instant, NodeId, Queues)| since.elapsed() >= PARTING;
        if self.parting.extract_if(.., late).next().is_some() {
            self.set_places();
        }
        if let Some(queue) = self.queues.get(to) {
            let _ = if is_people(&message) {
                &queue.people
            } else {
                &queue.talk
            }
            .try_send(message);
        }
    }

    /// From here on what goes to that node goes by way of another, too, or does not any more (A4).
    pub fn set_way(&self, to: &NodeId, via: Option<&NodeId>) {
        self.port.set_way(to, via);
    }
}

/// After a silence of this long a peer is dialled anew: what waits in the old connection would wait
/// for its long probe back-off when the peer can be reached again.
fn silence(spec: &Spec) -> Duration {
    let Timings {
        suspicion_ceiling,
        heartbeat,
        ..
    } = &spec.timings;
    let ceiling = suspicion_ceiling.saturating_mul(2);
    ceiling.max(heartbeat.saturating_mul(10))
}

fn transport() -> TransportConfig {
    let mut config = TransportConfig::default();
    config
        .max_idle_timeout(Some(VarInt::from_u32(QUIET.as_millis() as u32).into()))
        // Honest peers are near: the default guess of a third of a second would cost a failover its
        // deadline.
        .initial_rtt(Duration::from_millis(5))
        .datagram_receive_buffer_size(None)
        .max_concurrent_bidi_streams(VarInt::from_u32(0))
        .max_concurrent_uni_streams(VarInt::from_u32(4))
        .congestion_controller_factory(Arc::new(window::FixedWindow));
    config
}

async fn dial(
    endpoint: Endpoint,
    node: NodeId,
    address: SocketAddr,
    local: Arc<Local>,
    mut waiting: Waiting,
) {
    let mut client = local.client.clone();
    loop {
        let shown = client.borrow_and_update().clone();
        let connected = match endpoint.connect_with(shown, address, node.as_str()) {
            Ok(connecting) => tokio::time::timeout(DIAL_LIMIT, connecting).await,
            Err(error) => {
                tracing::error!(%node, %error, "cannot dial");
                return;
            }
        };
        if let Ok(Ok(connection)) = connected {
            tracing::debug!(%node, "connected");
            lock(&local.links.0).insert(node.clone(), connection.clone());
            let ended = match is_refused(&connection, &local.refused) {
                Err(error) => Err(error),
                Ok(Some(gone)) => {
                    part(&connection, &gone);
                    Err(anyhow::anyhow!("its key speaks for nobody any more"))
                }
                Ok(None) => speak(&connection, &local, &node, &mut waiting, &mut client).await,
            };
            lock(&local.links.0).remove(&node);
            match ended {
                Ok(()) => return,
                Err(error) => tracing::debug!(%node, %error, "connection lost"),
            }
            if let Some(since) = told_by(&connection) {
                let by = node.clone();
                (local.tell)(Input::Removed { by, since });
                tokio::time::sleep(REMOVED_PAUSE).await;
            }
        }
        // What waited meanwhile is stale.
        while waiting.talk.try_recv().is_ok() || waiting.people.try_recv().is_ok() {}
        tokio::time::sleep(DIAL_PAUSE).await;
        if waiting.talk.is_closed() {
            return;
        }
    }
}

/// Until the connection is over, or the daemon.
async fn speak(
    connection: &Connection,
    local: &Local,
    node: &NodeId,
    waiting: &mut Waiting,
    client: &mut watch::Receiver<quinn::ClientConfig>,
) -> Result<()> {
    let mut stream = connection.open_uni().await?;
    let hello = lock(&local.hello).clone();
    stream.write_all(&encode(&hello)).await?;
    let people = async {
        let mut stream = connection.open_uni().await?;
        while let Some(message) = waiting.people.recv().await {
            stream.write_all(&encode(&message)).await?;
        }
        Ok(())
    };
    tokio::select! {
        ended = talk(connection, stream, local, node, &mut waiting.talk) => ended,
        ended = people => ended,
        ended = until_refused(connection, &local.refused) => ended,
        _ = client.changed() => anyhow::bail!("there are other certificates"),
    }
}

async fn talk(
    connection: &Connection,
    mut stream: SendStream,
    local: &Local,
    node: &NodeId,
    waiting: &mut mpsc::Receiver<Message>,
) -> Result<()> {
    let mut sealer = Sealer::new(connection).context("a connection without keys")?;
    let (since, restarted) = (Instant::now(), local.restarted(node));
    loop {
        let message = tokio::select! {
            message = waiting.recv() => message,
            closed = connection.closed() => return Err(closed.into()),
            () = restarted.notified() => anyhow::bail!("the peer was started again"),
        };
        if message.is_none() {
            return Ok(());
        }
        let is_silent =
            || since.elapsed() > local.silence() && local.port.is_silent(node, local.silence());
        anyhow::ensure!(!is_silent(), "the peer is silent");
        // Whatever waits leaves together: a packet costs more than what is in it.
        let (mut next, mut frames, mut repeated) = (message, Vec::new(), Vec::new());
        while let Some(message) = next {
            let frame = encode(&message);
            let alone = &frame[4..];
            if message.is_repeated() && alone.len() <= sealed::LARGEST {
                if repeated.len() + alone.len() > sealed::LARGEST {
                    local.port.send(&mut sealer, &std::mem::take(&mut repeated));
                }
                repeated.extend_from_slice(alone);
            } else {
                frames.extend(frame);
            }
            next = waiting.try_recv().ok();
        }
        if !repeated.is_empty() {
            local.port.send(&mut sealer, &repeated);
        }
        if !frames.is_empty() {
            // A peer that is there may be slow to take a long one; one that is gone must not hold
            // up what comes after it.
            let written = stream.write_all(&frames);
            tokio::pin!(written);
            loop {
                match tokio::time::timeout(local.silence(), &mut written).await {
                    Ok(done) => break done?,
                    Err(_late) => {
                        anyhow::ensure!(!is_silent(), "the peer takes nothing and is silent")
                    }
                }
            }
        }
    }
}

async fn accept(
    endpoint: Endpoint,
    local: Arc<Local>,
    receive: impl Fn(Input) + Clone + Send + Sync + 'static,
) {
    let under_way = Arc::new(Mutex::new(BTreeMap::<SocketAddr, usize>::new()));
    while let Some(incoming) = endpoint.accept().await {
        let (local, receive) = (local.clone(), receive.clone());
        let address = incoming.remote_address();
        let places = local.port.places();
        match places.node_at(&address).cloned() {
            // A peer that does not hear this node cannot connect; that its attempts arrive shows
            // which direction is cut.
            Some(from) => receive(Input::Knocked { from }),
            // Whoever was there is told that it is none any more.
            None if places.is_heard_from(&address) => {}
            None => {
                incoming.ignore();
                continue;
            }
        }
        if !incoming.remote_address_validated() && incoming.may_retry() {
            let _ = incoming.retry();
            continue;
        }
        let handshake = Handshake::begin(&under_way, address);
        let Some(handshake) = handshake else {
            incoming.ignore();
            continue;
        };
        tokio::spawn(async move {
            let Ok(connection) = incoming.await else {
                return;
            };
            drop(handshake);
            match is_refused(&connection, &local.refused) {
                Ok(None) => {}
                Ok(Some(gone)) => return part(&connection, &gone),
                Err(error) => {
                    tracing::debug!(%error, "a peer's key cannot be read");
                    return;
                }
            }
            if let Err(error) = listen(&connection, &local, receive).await {
                tracing::debug!(%error, peer = %connection.remote_address(), "a peer's connection ended");
                connection.close(VarInt::from_u32(1), error.to_string().as_bytes());
            }
        });
    }
}

/// One that is under way with a peer address, as long as this lives.
struct Handshake(Arc<Mutex<BTreeMap<SocketAddr, usize>>>, SocketAddr);

impl Handshake {
    fn begin(all: &Arc<Mutex<BTreeMap<SocketAddr, usize>>>, with: SocketAddr) -> Option<Self> {
        let mut counts = lock(all);
        let count = counts.entry(with).or_default();
        if *count >= HANDSHAKES {
            return None;
        }
        *count += 1;
        Some(Self(all.clone(), with))
    }
}

impl Drop for Handshake {
    fn drop(&mut self) {
        if let Some(count) = lock(&self.0).get_mut(&self.1) {
            *count = count.saturating_sub(1);
        }
    }
}

async fn listen(connection: &Connection, local: &Local, receive: impl Fn(Input)) -> Result<()> {
    let first = shown_on(connection).context("no certificate")?;
    let from = tls::node_of(&first, local.port.places().nodes().map(|(n, _)| n.clone()))
        .context("the certificate names no node of the spec")?;
    anyhow::ensure!(from != local.me, "a peer that claims to be this node");
    let its_own = local.port.places().node_at(&connection.remote_address()) == Some(&from);
    anyhow::ensure!(
        its_own,
        "{from}'s certificate, and not from {from}'s address"
    );
    let mut stream = connection.accept_uni().await?;
    let hello: Hello = read_frame(&mut stream).await?;
    let own = lock(&local.hello).clone();
    let both = hello.given.as_ref().zip(own.given.as_ref());
    let agrees = hello.cluster == own.cluster && both.is_none_or(|(theirs, ours)| theirs == ours);
    let disagreement = (!agrees).then(|| {
        if hello.cluster == own.cluster {
            format!("{from} has another spec file than {}", local.me)
        } else {
            format!("{from} belongs to cluster `{}`", hello.cluster)
        }
    });
    {
        let mut known = lock(&local.disagreements);
        match &disagreement {
            Some(why) => known.insert(from.clone(), why.clone()),
            None => known.remove(&from),
        };
    }
    if let Some(why) = disagreement {
        tracing::warn!("refused: {why}");
        anyhow::bail!(why);
    }
    let (node, key) = (from.clone(), tls::key_of(&first)?);
    receive(Input::Shown { node, key });
    let before = lock(&local.runs).insert(from.clone(), hello.run);
    if before.is_some_and(|run| run != hello.run) {
        local.restarted(&from).notify_one();
    }
    let _listening = local
        .port
        .listen(connection, from.clone())
        .context("a connection without keys")?;
    let mut client = local.client.clone();
    client.mark_unchanged();
    let frames = async {
        loop {
            let message = looked_at(read_frame(&mut stream).await?).await;
            let message = message.inspect_err(|error| {
                tracing::warn!(%from, "a node says what no honest one says: {error:#}");
                lock(&local.disagreements).insert(from.clone(), format!("{from}: {error:#}"));
            })?;
            receive(Input::Received {
                from: from.clone(),
                message,
            });
        }
    };
    let people = async {
        loop {
            let mut stream = connection.accept_uni().await?;
            while let Ok(message) = read_frame::<Message>(&mut stream).await {
                let input = heard((&from, &own.cluster), message, &local.asked).await;
                receive(input.inspect_err(|error| {
                    tracing::warn!(%from, %error, "a node asks for what no honest one asks for");
                })?);
            }
        }
    };
    tokio::select! {
        ended = frames => ended,
        ended = people => ended,
        ended = until_refused(connection, &local.refused) => ended,
        _ = client.changed() => anyhow::bail!("there are other certificates"),
    }
}
