//! Peers: one UDP port, QUIC (RFC 9000) with mutual TLS.
//!
//! Every node dials every other and sends on the connection that it dialled. What the next heartbeat says again goes in
//! [`sealed`] datagrams beside QUIC, everything else in order on one stream. Messages are CBOR (RFC 8949), on the stream behind a
//! four-byte length, in a datagram one after the other (RFC 8742). The first frame says which cluster and spec the sender
//! belongs to: a node with another spec file is refused and named.

mod sealed;
mod window;

use crate::tls::{self, Identity};
use anyhow::{Context, Result};
use karst_core::message::Message;
use karst_core::spec::Spec;
use karst_core::{Input, NodeId};
use quinn::crypto::rustls::{QuicClientConfig, QuicServerConfig};
use quinn::{Connection, Endpoint, EndpointConfig, RecvStream, TokioRuntime, TransportConfig, VarInt};
use rustls::pki_types::CertificateDer;
use sealed::{Port, Sealer};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use tokio::sync::{Notify, mpsc};

/// A frame larger than this is refused: the largest honest one is a batch of log entries.
const FRAME_LIMIT: usize = 4 << 20;
/// Messages waiting for one peer; more are dropped, and the protocol repeats what matters.
const QUEUE: usize = 512;
const DIAL_LIMIT: Duration = Duration::from_millis(400);
const DIAL_PAUSE: Duration = Duration::from_millis(50);
/// How long QUIC itself bears a silence. Sealed datagrams tell much sooner whether a peer is there; this is for a connection
/// that works in one direction only.
const QUIET: Duration = Duration::from_secs(9);

/// The first frame on every connection.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Hello {
    pub cluster: String,
    /// SHA-256 of the spec file.
    pub spec: String,
    /// Of this run of the daemon. A new one means that connections to the run before lead nowhere.
    pub run: u64,
}

/// Peers that were refused, with the reason; shown as findings.
pub type Disagreements = Arc<Mutex<BTreeMap<NodeId, String>>>;

/// The sending side.
pub struct Peers {
    queues: BTreeMap<NodeId, mpsc::Sender<Message>>,
    pub disagreements: Disagreements,
}

struct Local {
    me: NodeId,
    hello: Hello,
    port: Arc<Port>,
    silence: Duration,
    /// Who dials from where.
    known: BTreeMap<SocketAddr, NodeId>,
    disagreements: Disagreements,
    /// The newest run of each peer, and how to tell its dialler of a newer one: QUIC itself would notice a peer that was
    /// killed and started again only after the idle time.
    runs: Mutex<BTreeMap<NodeId, u64>>,
    restarted: BTreeMap<NodeId, Notify>,
}

impl Peers {
    /// Binds this node's peer address and starts to dial the others, on the tokio runtime around it; `receive` gets what they
    /// say.
    ///
    /// # Errors
    /// If the address cannot be bound, or the certificates are of no use.
    pub fn start(
        me: &NodeId, spec: &Spec, digest: &str, identity: &Identity,
        receive: impl Fn(Input) + Clone + Send + Sync + 'static,
    ) -> Result<Self> {
        let address = spec.nodes[me].peer;
        let server = QuicServerConfig::try_from(identity.peer_server()?).context("TLS for QUIC")?;
        let mut server = quinn::ServerConfig::with_crypto(Arc::new(server));
        server.transport_config(Arc::new(transport()));
        let mut client = quinn::ClientConfig::new(Arc::new(QuicClientConfig::try_from(identity.peer_client()?)?));
        let mut dialling = transport();
        dialling.keep_alive_interval(Some(QUIET / 3));
        client.transport_config(Arc::new(dialling));
        let hear = receive.clone();
        let port = Port::bind(address, move |from, mut said| {
            while let Ok(message) = ciborium::from_reader(&mut said) {
                hear(Input::Received { from: from.clone(), message });
            }
        });
        let port = Arc::new(port.with_context(|| format!("peer address {address}"))?);
        let mut config = EndpointConfig::default();
        config.grease_quic_bit(false);
        let runtime = Arc::new(TokioRuntime);
        let mut endpoint = Endpoint::new_with_abstract_socket(config, Some(server), port.clone(), runtime)?;
        endpoint.set_default_client_config(client);

        let disagreements = Disagreements::default();
        let local = Arc::new(Local {
            me: me.clone(),
            port,
            silence: silence(spec),
            hello: Hello { cluster: spec.cluster.clone(), spec: digest.into(), run: rand::random() },
            known: spec.nodes.iter().map(|(n, peer)| (peer.peer, n.clone())).collect(),
            disagreements: disagreements.clone(),
            runs: Mutex::default(),
            restarted: spec.nodes.keys().map(|n| (n.clone(), Notify::new())).collect(),
        });
        tokio::spawn(accept(endpoint.clone(), local.clone(), receive));
        let mut queues = BTreeMap::new();
        for (node, peer) in spec.nodes.iter().filter(|(n, _)| *n != me) {
            let (queue, waiting) = mpsc::channel(QUEUE);
            queues.insert(node.clone(), queue);
            tokio::spawn(dial(endpoint.clone(), node.clone(), peer.peer, local.clone(), waiting));
        }
        Ok(Self { queues, disagreements })
    }

    /// Queues a message; a full queue drops it.
    pub fn send(&self, to: &NodeId, message: Message) {
        if let Some(queue) = self.queues.get(to) {
            let _ = queue.try_send(message);
        }
    }
}

/// After a silence of this long a peer is dialled anew: what waits in the old connection would wait for its long probe back-off
/// when the peer can be reached again.
fn silence(spec: &Spec) -> Duration {
    (spec.timings.suspicion_ceiling * 2).max(spec.timings.heartbeat * 10)
}

fn transport() -> TransportConfig {
    let mut config = TransportConfig::default();
    config
        .max_idle_timeout(Some(VarInt::from_u32(QUIET.as_millis() as u32).into()))
        // Honest peers are near: the default guess of a third of a second would cost a failover its deadline.
        .initial_rtt(Duration::from_millis(5))
        .datagram_receive_buffer_size(None)
        .max_concurrent_bidi_streams(VarInt::from_u32(0))
        .max_concurrent_uni_streams(VarInt::from_u32(4))
        .congestion_controller_factory(Arc::new(window::FixedWindow));
    config
}

fn encode<T: Serialize>(value: &T) -> Vec<u8> {
    let mut frame = vec![0; 4];
    ciborium::into_writer(value, &mut frame).expect("messages serialise into memory");
    let length = (frame.len() - 4) as u32;
    frame[..4].copy_from_slice(&length.to_be_bytes());
    frame
}

async fn read_frame<T: serde::de::DeserializeOwned>(stream: &mut RecvStream) -> Result<T> {
    let mut length = [0; 4];
    stream.read_exact(&mut length).await?;
    let length = u32::from_be_bytes(length) as usize;
    anyhow::ensure!(length <= FRAME_LIMIT, "a frame of {length} bytes; at most {FRAME_LIMIT} are taken");
    let mut frame = vec![0; length];
    stream.read_exact(&mut frame).await?;
    decode(&frame)
}

/// Reads one frame's bytes. A frame with anything behind its value is refused.
pub fn decode<T: serde::de::DeserializeOwned>(frame: &[u8]) -> Result<T> {
    let mut rest = frame;
    let value = ciborium::from_reader(&mut rest).context("a frame that cannot be read")?;
    anyhow::ensure!(rest.is_empty(), "a frame with {} bytes behind its value", rest.len());
    Ok(value)
}

async fn dial(
    endpoint: Endpoint, node: NodeId, address: SocketAddr, local: Arc<Local>, mut waiting: mpsc::Receiver<Message>,
) {
    loop {
        let connected = match endpoint.connect(address, node.as_str()) {
            Ok(connecting) => tokio::time::timeout(DIAL_LIMIT, connecting).await,
            Err(error) => {
                tracing::error!(%node, %error, "cannot dial");
                return;
            }
        };
        if let Ok(Ok(connection)) = connected {
            tracing::debug!(%node, "connected");
            match speak(&connection, &local, &node, &mut waiting).await {
                Ok(()) => return,
                Err(error) => tracing::debug!(%node, %error, "connection lost"),
            }
        }
        // What waited meanwhile is stale.
        while waiting.try_recv().is_ok() {}
        tokio::time::sleep(DIAL_PAUSE).await;
        if waiting.is_closed() {
            return;
        }
    }
}

async fn speak(
    connection: &Connection, local: &Local, node: &NodeId, waiting: &mut mpsc::Receiver<Message>,
) -> Result<()> {
    let mut stream = connection.open_uni().await?;
    stream.write_all(&encode(&local.hello)).await?;
    let mut sealer = Sealer::new(connection).context("a connection without keys")?;
    let since = Instant::now();
    loop {
        let message = tokio::select! {
            message = waiting.recv() => message,
            closed = connection.closed() => return Err(closed.into()),
            () = local.restarted[node].notified() => anyhow::bail!("the peer was started again"),
        };
        if message.is_none() {
            return Ok(());
        }
        let is_silent = || since.elapsed() > local.silence && local.port.is_silent(node, local.silence);
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
            // A peer that is there may be slow to take a long one; one that is gone must not hold up what comes after it.
            let written = stream.write_all(&frames);
            tokio::pin!(written);
            loop {
                match tokio::time::timeout(local.silence, &mut written).await {
                    Ok(done) => break done?,
                    Err(_late) => anyhow::ensure!(!is_silent(), "the peer takes nothing and is silent"),
                }
            }
        }
    }
}

async fn accept(endpoint: Endpoint, local: Arc<Local>, receive: impl Fn(Input) + Clone + Send + Sync + 'static) {
    while let Some(incoming) = endpoint.accept().await {
        let (local, receive) = (local.clone(), receive.clone());
        // A peer that does not hear this node cannot connect; that its attempts arrive shows which direction is cut.
        if let Some(from) = local.known.get(&incoming.remote_address()) {
            receive(Input::Knocked { from: from.clone() });
        }
        tokio::spawn(async move {
            let Ok(connection) = incoming.await else { return };
            if let Err(error) = listen(&connection, &local, receive).await {
                tracing::debug!(%error, peer = %connection.remote_address(), "a peer's connection ended");
                connection.close(VarInt::from_u32(1), error.to_string().as_bytes());
            }
        });
    }
}

async fn listen(connection: &Connection, local: &Local, receive: impl Fn(Input)) -> Result<()> {
    let certificates = connection.peer_identity().and_then(|i| i.downcast::<Vec<CertificateDer<'static>>>().ok());
    let first = certificates.as_ref().and_then(|c| c.first()).context("no certificate")?;
    let from =
        tls::node_of(first, local.known.values().cloned()).context("the certificate names no node of the spec")?;
    anyhow::ensure!(from != local.me, "a peer that claims to be this node");
    let mut stream = connection.accept_uni().await?;
    let hello: Hello = read_frame(&mut stream).await?;
    let agrees = hello.cluster == local.hello.cluster && hello.spec == local.hello.spec;
    let disagreement = (!agrees).then(|| {
        if hello.cluster == local.hello.cluster {
            format!("{from} has another spec file than {}", local.me)
        } else {
            format!("{from} belongs to cluster `{}`", hello.cluster)
        }
    });
    {
        let mut known = local.disagreements.lock().unwrap_or_else(PoisonError::into_inner);
        match &disagreement {
            Some(why) => known.insert(from.clone(), why.clone()),
            None => known.remove(&from),
        };
    }
    if let Some(why) = disagreement {
        tracing::warn!("refused: {why}");
        anyhow::bail!(why);
    }
    let before = local.runs.lock().unwrap_or_else(PoisonError::into_inner).insert(from.clone(), hello.run);
    if before.is_some_and(|run| run != hello.run) {
        local.restarted[&from].notify_one();
    }
    let _listening = local.port.listen(connection, from.clone()).context("a connection without keys")?;
    loop {
        let message = read_frame::<Message>(&mut stream).await?;
        receive(Input::Received { from: from.clone(), message });
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use karst_core::heads::Head;
    use karst_core::health::Hears;
    use karst_core::members::Ordered;
    use karst_core::message::heads_beside;
    use karst_core::{Epoch, Lsn};
    use proptest::prelude::*;

    fn beat() -> Message {
        let hears = Hears { you: Some(Duration::from_millis(90)), ..Hears::default() };
        Message::Beat { number: 7, hears, heads: vec![] }
    }

    /// With a thousand nodes, the longest names and the largest numbers.
    #[test]
    fn the_largest_beat_fits_a_datagram() {
        let lately = (0..1_000).map(|n| NodeId::from(format!("n{n}"))).collect::<Ordered>().pick(|_| true);
        let head = Head { epoch: Epoch(u64::MAX), position: Lsn(u64::MAX) };
        let name = |n: usize| format!("{n:040}").as_str().into();
        let heads = (0..heads_beside(&lately)).map(|n| (name(n), head)).collect();
        let hears = Hears { you: Some(Duration::MAX), lately };
        let beat = Message::Beat { number: u64::MAX, hears, heads };
        let length = encode(&beat).len() - 4;
        assert!((900..=sealed::LARGEST).contains(&length), "{length} bytes");
    }

    #[test]
    fn a_frame_is_read_as_it_was_written_and_with_nothing_behind_it() {
        let frame = encode(&beat());
        assert_eq!(u32::from_be_bytes([frame[0], frame[1], frame[2], frame[3]]) as usize, frame.len() - 4);
        assert_eq!(decode::<Message>(&frame[4..]).unwrap(), beat());
        let mut longer = frame[4..].to_vec();
        longer.push(0);
        assert!(decode::<Message>(&longer).is_err());
    }

    proptest! {
        /// Whatever arrives, it is a message or an error.
        #[test]
        fn hostile_frames_are_refused(noise in prop::collection::vec(any::<u8>(), 0..200), at in 0usize..60, bit in 0u8..8) {
            let _ = decode::<Message>(&noise);
            let mut frame = encode(&beat())[4..].to_vec();
            let at = at % frame.len();
            frame[at] ^= 1 << bit;
            let _ = decode::<Message>(&frame);
        }
    }
}
