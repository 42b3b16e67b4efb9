//! Sealed datagrams: what the next heartbeat says again, on the port of QUIC and beside it.
//!
//! A QUIC datagram is acknowledged (RFC 9221, section 5.2), which costs both hosts as much again as
//! what is in it, and a stream says late and again what is stale by then. So what is repeated
//! anyway is sealed with a key of the QUIC connection that it belongs to (RFC 5705; RFC 8446,
//! section 7.5), and is worth something only as long as that connection lives.
//!
//! In one datagram: the kind, the key's name (8 bytes), the datagram's number (8 bytes,
//! big-endian), then the messages under AES-256-GCM (RFC 5116) with the number as nonce and all
//! before it as associated data. A QUIC packet has the second bit of its first byte set (RFC 9000,
//! section 17), a sealed one has not: so the two share a port (RFC 9443 does the same).
//!
//! Where the direct link of two nodes is broken, what they send each other goes also by way of a
//! third (A4): whole datagrams, QUIC's and sealed ones, which the one in the middle can neither
//! read nor make. In front of each are its kind and two bytes each for who sends it and for whom,
//! by their places in the order of names. What comes from an address that the spec does not have is
//! dropped before anything is looked at.

use crate::lock::{lock, read, write};
use karst_core::NodeId;
use quinn::udp::{RecvMeta, Transmit};
use quinn::{AsyncUdpSocket, Connection, Runtime, TokioRuntime, UdpPoller};
use ring::aead::{AES_256_GCM, Aad, LessSafeKey, Nonce, UnboundKey};
use std::collections::{BTreeMap, VecDeque};
use std::io::{self, IoSliceMut};
use std::net::{IpAddr, SocketAddr, UdpSocket};
use std::pin::Pin;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, RwLock};
use std::task::{Context, Poll, ready};
use std::time::{Duration, Instant};

const SEALED: u8 = 0;
const PASSED_ON: u8 = 1;
const FIXED_BIT: u8 = 0x40;
const HEADER: usize = 17;
/// In front of a datagram that goes round.
const ENVELOPE: usize = 5;
/// Datagrams that came round and wait for QUIC to take them.
const CAME_ROUND: usize = 256;
/// A larger one might not pass every link whole (RFC 9000, section 14).
pub const LARGEST: usize = 1_200 - HEADER - 16;
const LABEL: &[u8] = b"EXPERIMENTAL karst repeated";

type Name = [u8; 8];

/// A connection's name and key, the same at both of its ends.
fn derived(connection: &Connection) -> Option<(Name, LessSafeKey)> {
    let mut material = [0; 40];
    connection
        .export_keying_material(&mut material, LABEL, &[])
        .ok()?;
    let (name, key) = material.split_at(8);
    Some((
        name.try_into().ok()?,
        LessSafeKey::new(UnboundKey::new(&AES_256_GCM, key).ok()?),
    ))
}

fn nonce(number: u64) -> Nonce {
    let mut nonce = [0; 12];
    nonce[4..].copy_from_slice(&number.to_be_bytes());
    Nonce::assume_unique_for_key(nonce)
}

/// The sending end of one connection. Only whoever dialled it speaks on it, so one number is never
/// used twice under its key.
pub struct Sealer {
    name: Name,
    key: LessSafeKey,
    number: u64,
    to: SocketAddr,
}

impl Sealer {
    /// Of a connection that is made.
    pub fn new(connection: &Connection) -> Option<Self> {
        let (name, key) = derived(connection)?;
        Some(Self {
            name,
            key,
            number: 0,
            to: connection.remote_address(),
        })
    }

    fn seal(&mut self, message: &[u8]) -> Vec<u8> {
        self.number += 1;
        let mut header = vec![SEALED];
        header.extend(self.name);
        header.extend(self.number.to_be_bytes());
        let mut sealed = message.to_vec();
        self.key
            .seal_in_place_append_tag(nonce(self.number), Aad::from(&header), &mut sealed)
            .expect("a message is far smaller than what one nonce may seal");
        header.extend(sealed);
        header
    }
}

/// Who may speak under one name.
struct Speaker {
    from: NodeId,
    key: LessSafeKey,
    newest: u64,
    /// Of those that came round: one may come both ways, and then the direct one says that there is
    /// a direct way.
    newest_round: u64,
}

/// How a datagram came.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Came {
    Directly,
    /// By way of another node: it says nothing about the direct link.
    Round,
}

/// Is told by whom what was said.
type Hear = Box<dyn Fn(&NodeId, Came, &[u8]) + Send + Sync>;

/// All nodes of the spec, in the order of their names.
#[derive(Clone, Debug)]
pub struct Places {
    addresses: Vec<SocketAddr>,
    names: Vec<NodeId>,
    me: usize,
    /// Where hosts are that were nodes: they are heard, to be told that they are none any more.
    parted: Vec<SocketAddr>,
}

impl Places {
    /// From every node's name and peer address.
    pub fn new<'a>(nodes: impl IntoIterator<Item = (&'a NodeId, SocketAddr)>, me: &NodeId) -> Self {
        let mut nodes: Vec<(NodeId, SocketAddr)> = nodes
            .into_iter()
            .map(|(name, at)| (name.clone(), at))
            .collect();
        nodes.sort();
        let (names, addresses): (Vec<NodeId>, Vec<SocketAddr>) = nodes.into_iter().unzip();
        let me = names.iter().position(|n| n == me).unwrap_or(usize::MAX);
        Self {
            addresses,
            names,
            me,
            parted: Vec::new(),
        }
    }

    /// Whoever is at these is heard too, and is no node.
    pub fn heard_from(mut self, parted: Vec<SocketAddr>) -> Self {
        self.parted = parted;
        self
    }

    pub fn is_heard_from(&self, address: &SocketAddr) -> bool {
        self.parted.contains(address)
    }

    pub fn address_of(&self, node: &NodeId) -> Option<SocketAddr> {
        let place = self.names.binary_search(node).ok()?;
        self.addresses.get(place).copied()
    }

    /// Who dials from there.
    pub fn node_at(&self, address: &SocketAddr) -> Option<&NodeId> {
        let place = self.addresses.iter().position(|a| a == address)?;
        self.names.get(place)
    }

    pub fn nodes(&self) -> impl Iterator<Item = (&NodeId, SocketAddr)> {
        self.names.iter().zip(self.addresses.iter().copied())
    }

    fn is_known(&self, address: SocketAddr) -> bool {
        self.addresses
            .iter()
            .chain(&self.parted)
            .any(|a| (a.ip(), a.port()) == (address.ip(), address.port()))
    }

    fn is_host(&self, ip: IpAddr) -> bool {
        self.addresses.iter().any(|a| a.ip() == ip)
    }
}

/// The socket that QUIC and sealed datagrams arrive at.
pub struct Port {
    socket: Arc<dyn AsyncUdpSocket>,
    /// Where sealed ones leave from. Nobody waits for it: whoever waits for a socket is woken each
    /// time that the kernel has passed on what was sent from it.
    out: UdpSocket,
    speakers: Mutex<BTreeMap<Name, Speaker>>,
    heard: Mutex<BTreeMap<NodeId, Instant>>,
    hear: Hear,
    places: RwLock<Arc<Places>>,
    /// By which other address what goes to this one goes as well.
    ways: Mutex<BTreeMap<SocketAddr, SocketAddr>>,
    has_ways: AtomicBool,
    /// QUIC's datagrams that came round, and whose they are.
    came_round: Mutex<VecDeque<(SocketAddr, Vec<u8>)>>,
    /// Datagrams from addresses that the spec does not have.
    pub strangers: Arc<AtomicU64>,
}

impl std::fmt::Debug for Port {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Port")
            .field("socket", &self.socket)
            .finish_non_exhaustive()
    }
}

/// Sealed datagrams are taken under a connection's name for as long as this lives.
pub struct Listening<'a>(&'a Port, Name);

impl Drop for Listening<'_> {
    fn drop(&mut self) {
        lock(&self.0.speakers).remove(&self.1);
    }
}

impl Port {
    /// Needs a tokio runtime around it.
    ///
    /// # Errors
    /// If the address cannot be bound.
    pub fn bind(
        address: SocketAddr,
        places: Places,
        hear: impl Fn(&NodeId, Came, &[u8]) + Send + Sync + 'static,
    ) -> io::Result<Self> {
        let socket = TokioRuntime.wrap_udp_socket(UdpSocket::bind(address)?)?;
        let out = UdpSocket::bind((address.ip(), 0))?;
        out.set_nonblocking(true)?;
        Ok(Self {
            socket,
            out,
            speakers: Mutex::default(),
            heard: Mutex::default(),
            hear: Box::new(hear),
            places: RwLock::new(Arc::new(places)),
            ways: Mutex::default(),
            has_ways: AtomicBool::new(false),
            came_round: Mutex::default(),
            strangers: Arc::default(),
        })
    }

    pub fn places(&self) -> Arc<Places> {
        read(&self.places).clone()
    }

    /// From here on nodes are there, and no others are peers.
    pub fn set_places(&self, places: Places) {
        *write(&self.places) = Arc::new(places);
    }

    /// Takes what `from` says under this connection's key. `None` if it has none.
    pub fn listen(&self, connection: &Connection, from: NodeId) -> Option<Listening<'_>> {
        let (name, key) = derived(connection)?;
        self.admit(
            name,
            Speaker {
                from,
                key,
                newest: 0,
                newest_round: 0,
            },
        );
        Some(Listening(self, name))
    }

    fn admit(&self, name: Name, speaker: Speaker) {
        lock(&self.speakers).insert(name, speaker);
    }

    /// Whether nothing that this node sealed has arrived for so long.
    pub fn is_silent(&self, node: &NodeId, so_long: Duration) -> bool {
        let heard = lock(&self.heard);
        heard.get(node).is_none_or(|at| at.elapsed() > so_long)
    }

    /// Sends at once or not at all: the next one is on its way.
    pub fn send(&self, sealer: &mut Sealer, message: &[u8]) {
        let datagram = sealer.seal(message);
        let _ = self.out.send_to(&datagram, sealer.to);
        if let Some(via) = self.way_to(sealer.to) {
            self.send_round(&datagram, sealer.to, via);
        }
    }

    /// From here on what goes to that node goes by way of this one, too, or does not any more.
    pub fn set_way(&self, to: &NodeId, via: Option<&NodeId>) {
        let places = self.places();
        let address = |node: &NodeId| places.address_of(node);
        let Some(to) = address(to) else { return };
        let mut ways = lock(&self.ways);
        match via.and_then(address) {
            Some(via) => ways.insert(to, via),
            None => ways.remove(&to),
        };
        self.has_ways.store(!ways.is_empty(), Ordering::Relaxed);
    }

    fn way_to(&self, to: SocketAddr) -> Option<SocketAddr> {
        if !self.has_ways.load(Ordering::Relaxed) {
            return None;
        }
        lock(&self.ways).get(&to).copied()
    }

    fn send_round(&self, datagram: &[u8], to: SocketAddr, via: SocketAddr) {
        let place = |at: usize| u16::try_from(at).unwrap_or(u16::MAX).to_be_bytes();
        let places = self.places();
        let Some(to) = places.addresses.iter().position(|a| *a == to) else {
            return;
        };
        let mut envelope = vec![PASSED_ON];
        envelope.extend(place(places.me));
        envelope.extend(place(to));
        envelope.extend_from_slice(datagram);
        let _ = self.out.send_to(&envelope, via);
    }

    /// A datagram that is on its way round: for this node, or to be passed on. Nobody is believed
    /// more for it: QUIC and the seal say who made it, and only its own sender's host may begin its
    /// way.
    fn take_round(&self, datagram: &mut [u8], from_host: IpAddr) -> Option<()> {
        let place = |at: usize, d: &[u8]| {
            Some(usize::from(u16::from_be_bytes(
                d.get(at..at + 2)?.try_into().ok()?,
            )))
        };
        let (sender, to) = (place(1, datagram)?, place(3, datagram)?);
        let places = self.places();
        let addresses = &places.addresses;
        let (origin, target) = (*addresses.get(sender)?, *addresses.get(to)?);
        if to != places.me {
            if origin.ip() == from_host && sender != places.me {
                let _ = self.out.send_to(datagram, target);
            }
            return Some(());
        }
        let inner = datagram.get_mut(ENVELOPE..)?;
        if inner.first()? & FIXED_BIT == 0 {
            return if inner[0] == SEALED {
                self.open(inner, Came::Round)
            } else {
                None
            };
        }
        let mut waiting = lock(&self.came_round);
        if waiting.len() < CAME_ROUND {
            waiting.push_back((origin, inner.to_vec()));
        }
        Some(())
    }

    /// Gives QUIC what came round, as from its sender's own address.
    fn give_round(&self, buffers: &mut [IoSliceMut<'_>], meta: &mut [RecvMeta]) -> usize {
        let mut waiting = lock(&self.came_round);
        let mut count = 0;
        for (buffer, meta) in buffers.iter_mut().zip(meta) {
            let Some((origin, datagram)) = waiting.pop_front() else {
                break;
            };
            let len = datagram.len().min(buffer.len());
            buffer[..len].copy_from_slice(&datagram[..len]);
            *meta = RecvMeta {
                addr: origin,
                len,
                stride: len,
                ecn: None,
                dst_ip: None,
            };
            count += 1;
        }
        count
    }

    /// Whatever was not sealed by a known speaker, or was heard before, or is older than that, is
    /// passed over.
    fn open(&self, datagram: &mut [u8], came: Came) -> Option<()> {
        let (header, sealed) = datagram.split_at_mut_checked(HEADER)?;
        let (name, number) = header.get(1..)?.split_first_chunk::<8>()?;
        let number = u64::from_be_bytes(number.try_into().ok()?);
        let mut speakers = lock(&self.speakers);
        let is_new = |s: &&mut Speaker| {
            s.newest < number && (came == Came::Directly || s.newest_round < number)
        };
        let speaker = speakers.get_mut(name).filter(is_new)?;
        let message = speaker
            .key
            .open_in_place(nonce(number), Aad::from(&*header), sealed)
            .ok()?;
        match came {
            Came::Directly => speaker.newest = number,
            Came::Round => speaker.newest_round = number,
        }
        lock(&self.heard).insert(speaker.from.clone(), Instant::now());
        (self.hear)(&speaker.from, came, message);
        Some(())
    }

    /// Leaves in a buffer what is QUIC's; the kernel may have put several datagrams of one sender
    /// into it.
    fn sift(&self, buffer: &mut [u8], meta: &mut RecvMeta) {
        let (received, stride) = (meta.len, meta.stride.max(1));
        meta.len = 0;
        let host = meta.addr.ip();
        if !self.places().is_host(host) {
            self.strangers
                .fetch_add(received.div_ceil(stride) as u64, Ordering::Relaxed);
            return;
        }
        // Only QUIC's come from a peer's own port.
        let is_peer = self.places().is_known(meta.addr);
        for start in (0..received).step_by(stride) {
            let end = (start + stride).min(received);
            if buffer[start] & FIXED_BIT == 0 {
                let datagram = &mut buffer[start..end];
                let _ = match datagram[0] {
                    SEALED => self.open(datagram, Came::Directly),
                    PASSED_ON => self.take_round(datagram, host),
                    _ => None,
                };
            } else if is_peer {
                buffer.copy_within(start..end, meta.len);
                meta.len += end - start;
            }
        }
    }
}

impl AsyncUdpSocket for Port {
    fn create_io_poller(self: Arc<Self>) -> Pin<Box<dyn UdpPoller>> {
        self.socket.clone().create_io_poller()
    }

    fn try_send(&self, transmit: &Transmit<'_>) -> io::Result<()> {
        self.socket.try_send(transmit)?;
        if let Some(via) = self.way_to(transmit.destination) {
            let size = transmit
                .segment_size
                .unwrap_or(transmit.contents.len())
                .max(1);
            transmit
                .contents
                .chunks(size)
                .for_each(|one| self.send_round(one, transmit.destination, via));
        }
        Ok(())
    }

    fn poll_recv(
        &self,
        context: &mut Context<'_>,
        buffers: &mut [IoSliceMut<'_>],
        meta: &mut [RecvMeta],
    ) -> Poll<io::Result<usize>> {
        let waiting = self.give_round(buffers, meta);
        if waiting > 0 {
            return Poll::Ready(Ok(waiting));
        }
        let count = ready!(self.socket.poll_recv(context, buffers, meta))?;
        buffers
            .iter_mut()
            .zip(meta)
            .take(count)
            .for_each(|(buffer, meta)| self.sift(buffer, meta));
        Poll::Ready(Ok(count))
    }

    fn local_addr(&self) -> io::Result<SocketAddr> {
        self.socket.local_addr()
    }

    fn max_transmit_segments(&self) -> usize {
        self.socket.max_transmit_segments()
    }

    fn max_receive_segments(&self) -> usize {
        self.socket.max_receive_segments()
    }

    fn may_fragment(&self) -> bool {
        self.socket.may_fragment()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const NAME: Name = *b"polje's ";

    fn key() -> LessSafeKey {
        LessSafeKey::new(UnboundKey::new(&AES_256_GCM, &[7; 32]).unwrap())
    }

    fn sealer(to: SocketAddr) -> Sealer {
        Sealer {
            name: NAME,
            key: key(),
            number: 0,
            to,
        }
    }

    type Heard = std::sync::mpsc::Receiver<(Came, Vec<u8>)>;

    /// The port of one of these, which knows `polje` as a speaker, and what it heard.
    fn port_of(me: &str, nodes: &[(&str, SocketAddr)]) -> (Port, Heard) {
        let (hear, heard) = std::sync::mpsc::channel();
        let names: Vec<NodeId> = nodes.iter().map(|(name, _)| NodeId::from(*name)).collect();
        let places = Places::new(
            names.iter().zip(nodes.iter().map(|(_, at)| *at)),
            &me.into(),
        );
        let address = places.address_of(&me.into()).unwrap();
        let port = Port::bind(address, places, move |from, came, said| {
            assert_eq!(*from, NodeId::from("polje"));
            hear.send((came, said.to_vec())).unwrap();
        });
        let port = port.unwrap();
        port.admit(
            NAME,
            Speaker {
                from: "polje".into(),
                key: key(),
                newest: 0,
                newest_round: 0,
            },
        );
        (port, heard)
    }

    /// `doline`'s, to which `polje` speaks from here.
    fn port(polje: SocketAddr) -> (Port, Heard) {
        port_of("doline", &[("doline", free()), ("polje", polje)])
    }

    /// A port on loopback that nobody has.
    fn free() -> SocketAddr {
        UdpSocket::bind("127.0.0.1:0")
            .unwrap()
            .local_addr()
            .unwrap()
    }

    /// Receives until so many datagrams have come for QUIC, and are there with their senders.
    async fn quic(port: &Port, count: usize) -> Vec<(SocketAddr, Vec<u8>)> {
        let mut all = Vec::new();
        while all.len() < count {
            let mut bytes = vec![0; 4096];
            let mut meta = [RecvMeta::default()];
            let receive = |cx: &mut Context<'_>| {
                port.poll_recv(cx, &mut [IoSliceMut::new(&mut bytes)], &mut meta)
            };
            std::future::poll_fn(receive).await.unwrap();
            if meta[0].len > 0 {
                all.push((meta[0].addr, bytes[..meta[0].len].to_vec()));
            }
        }
        all
    }

    /// Sends once the socket is known to take it.
    async fn transmit(port: &Port, what: &Transmit<'_>) {
        while let Err(error) = port.try_send(what) {
            assert_eq!(error.kind(), io::ErrorKind::WouldBlock);
            tokio::task::yield_now().await;
        }
    }

    fn sent(contents: &[u8], destination: SocketAddr) -> Transmit<'_> {
        Transmit {
            destination,
            ecn: None,
            contents,
            segment_size: None,
            src_ip: None,
        }
    }

    fn nowhere() -> SocketAddr {
        ([127, 0, 0, 1], 9).into()
    }

    #[tokio::test]
    async fn it_is_heard_once_in_order_and_while_its_connection_lives() {
        let (port, heard) = port(nowhere());
        let mut sealer = sealer(nowhere());
        let [first, second, third] = [b"one", b"two", b"six"].map(|text| sealer.seal(text));
        assert!(
            !second.windows(3).any(|w| w == b"two"),
            "it can be read on the way"
        );
        let direct = |datagram: &[u8]| port.open(&mut datagram.to_vec(), Came::Directly);
        assert_eq!(direct(&second), Some(()));
        assert_eq!(direct(&second), None, "replayed");
        assert_eq!(direct(&first), None, "overtaken");
        drop(Listening(&port, NAME));
        assert_eq!(direct(&third), None, "its connection is gone");
        assert_eq!(
            heard.try_iter().collect::<Vec<_>>(),
            [(Came::Directly, b"two".to_vec())]
        );
        assert!(!port.is_silent(&"polje".into(), Duration::from_secs(3_600)));
        assert!(
            port.is_silent(&"polje".into(), Duration::ZERO)
                && port.is_silent(&"uvala".into(), Duration::MAX)
        );
    }

    /// Through real sockets, beside what belongs to QUIC; what comes from an address that the spec
    /// does not have is dropped.
    #[tokio::test]
    async fn it_shares_the_port_with_quic() {
        let polje = free();
        let (to, heard) = port(polje);
        let (from, _) = port_of("polje", &[("doline", nowhere()), ("polje", polje)]);
        let mut sealer = sealer(to.local_addr().unwrap());
        from.send(&mut sealer, b"a beat");
        UdpSocket::bind("127.0.0.1:0")
            .unwrap()
            .send_to(&[0x44; 30], sealer.to)
            .unwrap();
        transmit(&from, &sent(&[0x43; 30], sealer.to)).await;
        from.send(&mut sealer, b"another");
        assert_eq!(quic(&to, 1).await, [(polje, vec![0x43; 30])]);
        let mut said: Vec<_> = heard.try_iter().collect();
        while said.len() < 2 {
            transmit(&from, &sent(&[0x43; 30], sealer.to)).await;
            quic(&to, 1).await;
            said.extend(heard.try_iter());
        }
        assert_eq!(
            said,
            [
                (Came::Directly, b"a beat".to_vec()),
                (Came::Directly, b"another".to_vec())
            ]
        );
    }

    /// The kernel joins datagrams of one sender to one buffer; all but the last have the same
    /// length.
    #[tokio::test]
    async fn it_is_taken_out_of_a_joined_buffer() {
        let (port, heard) = port(nowhere());
        let sealed = sealer(nowhere()).seal(&[1; 27]);
        let (stride, quic) = (sealed.len(), [[0x41; 60], [0x42; 60]]);
        assert_eq!(stride, quic[0].len());
        let whole = [&quic[0][..], &sealed, &quic[1], &[0x43; 9]].concat();
        let from = |addr: SocketAddr| {
            let (mut buffer, len) = (whole.clone(), whole.len());
            let mut meta = RecvMeta {
                len,
                stride,
                addr,
                ..RecvMeta::default()
            };
            port.sift(&mut buffer, &mut meta);
            buffer[..meta.len].to_vec()
        };
        assert_eq!(
            from(([192, 0, 2, 7], 9).into()),
            Vec::<u8>::new(),
            "a stranger's"
        );
        assert_eq!(
            (
                port.strangers.load(Ordering::Relaxed),
                heard.try_iter().count()
            ),
            (4, 0)
        );
        assert_eq!(
            from(nowhere()),
            [&quic[0][..], &quic[1], &[0x43; 9]].concat()
        );
        assert_eq!(
            heard.try_iter().collect::<Vec<_>>(),
            [(Came::Directly, vec![1; 27])]
        );
    }

    /// A4: polje does not reach uvala, and doline passes on what it says, QUIC's datagrams as from
    /// polje's own address.
    #[tokio::test]
    async fn what_cannot_go_directly_goes_round() {
        let (doline, polje, uvala) = (free(), free(), free());
        let all = [("doline", doline), ("polje", polje), ("uvala", uvala)];
        let (from, _) = port_of(
            "polje",
            &[("doline", doline), ("polje", polje), ("uvala", nowhere())],
        );
        let ((middle, _), (to, heard)) = (port_of("doline", &all), port_of("uvala", &all));
        let mut sealer = sealer(nowhere());
        from.set_way(&"uvala".into(), Some(&"doline".into()));
        from.send(&mut sealer, b"a lease");
        transmit(
            &from,
            &Transmit {
                segment_size: Some(20),
                ..sent(&[0x43; 30], nowhere())
            },
        )
        .await;
        from.set_way(&"uvala".into(), None);
        from.send(&mut sealer, b"lost");
        // The one in the middle has nothing for QUIC of its own until this arrives.
        transmit(&from, &sent(&[0x47; 5], doline)).await;
        assert_eq!(quic(&middle, 1).await, [(polje, vec![0x47; 5])]);
        assert_eq!(
            quic(&to, 2).await,
            [(polje, vec![0x43; 20]), (polje, vec![0x43; 10])]
        );
        assert_eq!(
            heard.try_iter().collect::<Vec<_>>(),
            [(Came::Round, b"a lease".to_vec())]
        );
    }

    /// Of a datagram that comes both ways the direct one counts, whichever comes first: it says
    /// that there is a direct way.
    #[tokio::test]
    async fn who_comes_round_does_not_keep_out_who_comes_directly() {
        let (port, heard) = port(nowhere());
        let both = sealer(nowhere()).seal(b"a beat");
        for (came, taken) in [
            (Came::Round, true),
            (Came::Round, false),
            (Came::Directly, true),
            (Came::Round, false),
        ] {
            assert_eq!(
                port.open(&mut both.clone(), came).is_some(),
                taken,
                "{came:?}"
            );
        }
        assert_eq!(
            heard.try_iter().map(|(came, _)| came).collect::<Vec<_>>(),
            [Came::Round, Came::Directly]
        );
    }

    proptest! {
        /// Whatever arrives, and whatever is changed on the way: it is not heard.
        #[test]
        fn forged_ones_are_passed_over(noise in prop::collection::vec(any::<u8>(), 0..90), at in 0usize..60, bit in 0u8..8) {
            let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
            let _inside = runtime.enter();
            let (port, heard) = port(nowhere());
            let mut forged = sealer(nowhere()).seal(b"a beat of mine, in full");
            let at = at % forged.len();
            forged[at] ^= 1 << bit;
            for mut datagram in [noise, forged] {
                let length = datagram.len();
                port.sift(&mut datagram, &mut RecvMeta { len: length, stride: length.max(1), addr: nowhere(), ..RecvMeta::default() });
            }
            prop_assert!(heard.try_recv().is_err());
        }
    }
}
