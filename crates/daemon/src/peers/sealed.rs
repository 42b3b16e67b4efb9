//! Sealed datagrams: what the next heartbeat says again, on the port of QUIC and beside it.
//!
//! A QUIC datagram is acknowledged (RFC 9221, section 5.2), which costs both hosts as much again as what is in it, and a stream
//! says late and again what is stale by then. So what is repeated anyway is sealed with a key of the QUIC connection that it
//! belongs to (RFC 5705; RFC 8446, section 7.5), and is worth something only as long as that connection lives.
//!
//! In one datagram: the kind, the key's name (8 bytes), the datagram's number (8 bytes, big-endian), then the messages under
//! AES-256-GCM (RFC 5116) with the number as nonce and all before it as associated data. A QUIC packet has the second bit of its
//! first byte set (RFC 9000, section 17), a sealed one has not: so the two share a port (RFC 9443 does the same).

use karst_core::NodeId;
use quinn::udp::{RecvMeta, Transmit};
use quinn::{AsyncUdpSocket, Connection, Runtime, TokioRuntime, UdpPoller};
use ring::aead::{AES_256_GCM, Aad, LessSafeKey, Nonce, UnboundKey};
use std::collections::BTreeMap;
use std::io::{self, IoSliceMut};
use std::net::{SocketAddr, UdpSocket};
use std::pin::Pin;
use std::sync::{Arc, Mutex, PoisonError};
use std::task::{Context, Poll, ready};
use std::time::{Duration, Instant};

const KIND: u8 = 0;
const FIXED_BIT: u8 = 0x40;
const HEADER: usize = 17;
/// A larger one might not pass every link whole (RFC 9000, section 14).
pub const LARGEST: usize = 1_200 - HEADER - 16;
const LABEL: &[u8] = b"EXPERIMENTAL karst repeated";

type Name = [u8; 8];

/// A connection's name and key, the same at both of its ends.
fn derived(connection: &Connection) -> Option<(Name, LessSafeKey)> {
    let mut material = [0; 40];
    connection.export_keying_material(&mut material, LABEL, &[]).ok()?;
    let (name, key) = material.split_at(8);
    Some((name.try_into().ok()?, LessSafeKey::new(UnboundKey::new(&AES_256_GCM, key).ok()?)))
}

fn nonce(number: u64) -> Nonce {
    let mut nonce = [0; 12];
    nonce[4..].copy_from_slice(&number.to_be_bytes());
    Nonce::assume_unique_for_key(nonce)
}

/// The sending end of one connection. Only whoever dialled it speaks on it, so one number is never used twice under its key.
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
        Some(Self { name, key, number: 0, to: connection.remote_address() })
    }

    fn seal(&mut self, message: &[u8]) -> Vec<u8> {
        self.number += 1;
        let mut header = vec![KIND];
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
}

/// Is told by whom what was said.
type Hear = Box<dyn Fn(&NodeId, &[u8]) + Send + Sync>;

/// The socket that QUIC and sealed datagrams arrive at.
pub struct Port {
    socket: Arc<dyn AsyncUdpSocket>,
    /// Where sealed ones leave from. Nobody waits for it: whoever waits for a socket is woken each time that the kernel has
    /// passed on what was sent from it.
    out: UdpSocket,
    speakers: Mutex<BTreeMap<Name, Speaker>>,
    heard: Mutex<BTreeMap<NodeId, Instant>>,
    hear: Hear,
}

impl std::fmt::Debug for Port {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Port").field("socket", &self.socket).finish_non_exhaustive()
    }
}

/// Sealed datagrams are taken under a connection's name for as long as this lives.
pub struct Listening<'a>(&'a Port, Name);

impl Drop for Listening<'_> {
    fn drop(&mut self) {
        self.0.speakers.lock().unwrap_or_else(PoisonError::into_inner).remove(&self.1);
    }
}

impl Port {
    /// Needs a tokio runtime around it.
    ///
    /// # Errors
    /// If the address cannot be bound.
    pub fn bind(address: SocketAddr, hear: impl Fn(&NodeId, &[u8]) + Send + Sync + 'static) -> io::Result<Self> {
        let socket = TokioRuntime.wrap_udp_socket(UdpSocket::bind(address)?)?;
        let out = UdpSocket::bind((address.ip(), 0))?;
        out.set_nonblocking(true)?;
        Ok(Self { socket, out, speakers: Mutex::default(), heard: Mutex::default(), hear: Box::new(hear) })
    }

    /// Takes what `from` says under this connection's key. `None` if it has none.
    pub fn listen(&self, connection: &Connection, from: NodeId) -> Option<Listening<'_>> {
        let (name, key) = derived(connection)?;
        self.admit(name, Speaker { from, key, newest: 0 });
        Some(Listening(self, name))
    }

    fn admit(&self, name: Name, speaker: Speaker) {
        self.speakers.lock().unwrap_or_else(PoisonError::into_inner).insert(name, speaker);
    }

    /// Whether nothing that this node sealed has arrived for so long.
    pub fn is_silent(&self, node: &NodeId, so_long: Duration) -> bool {
        let heard = self.heard.lock().unwrap_or_else(PoisonError::into_inner);
        heard.get(node).is_none_or(|at| at.elapsed() > so_long)
    }

    /// Sends at once or not at all: the next one is on its way.
    pub fn send(&self, sealer: &mut Sealer, message: &[u8]) {
        let _ = self.out.send_to(&sealer.seal(message), sealer.to);
    }

    /// Whatever was not sealed by a known speaker, or was heard before, or is older than that, is passed over.
    fn open(&self, datagram: &mut [u8]) -> Option<()> {
        let (header, sealed) = datagram.split_at_mut_checked(HEADER)?;
        let (name, number) = header.get(1..)?.split_first_chunk::<8>()?;
        let number = u64::from_be_bytes(number.try_into().ok()?);
        let mut speakers = self.speakers.lock().unwrap_or_else(PoisonError::into_inner);
        let speaker = speakers.get_mut(name).filter(|s| s.newest < number)?;
        let message = speaker.key.open_in_place(nonce(number), Aad::from(&*header), sealed).ok()?;
        speaker.newest = number;
        self.heard.lock().unwrap_or_else(PoisonError::into_inner).insert(speaker.from.clone(), Instant::now());
        (self.hear)(&speaker.from, message);
        Some(())
    }

    /// Takes the sealed datagrams out of what one call received; the kernel may have put several into one buffer.
    fn sift(&self, buffer: &mut [u8], meta: &mut RecvMeta) {
        let (received, stride) = (meta.len, meta.stride.max(1));
        meta.len = 0;
        for start in (0..received).step_by(stride) {
            let end = (start + stride).min(received);
            if buffer[start] & FIXED_BIT == 0 {
                let _ = self.open(&mut buffer[start..end]);
            } else {
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
        self.socket.try_send(transmit)
    }

    fn poll_recv(
        &self, context: &mut Context<'_>, buffers: &mut [IoSliceMut<'_>], meta: &mut [RecvMeta],
    ) -> Poll<io::Result<usize>> {
        let count = ready!(self.socket.poll_recv(context, buffers, meta))?;
        buffers.iter_mut().zip(meta).take(count).for_each(|(buffer, meta)| self.sift(buffer, meta));
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
        Sealer { name: NAME, key: key(), number: 0, to }
    }

    /// A port that knows one speaker, and what it heard.
    fn port() -> (Port, std::sync::mpsc::Receiver<Vec<u8>>) {
        let (hear, heard) = std::sync::mpsc::channel();
        let port = Port::bind(([127, 0, 0, 1], 0).into(), move |from, said| {
            assert_eq!(*from, NodeId::from("polje"));
            hear.send(said.to_vec()).unwrap();
        });
        let port = port.unwrap();
        port.admit(NAME, Speaker { from: "polje".into(), key: key(), newest: 0 });
        (port, heard)
    }

    fn nowhere() -> SocketAddr {
        ([127, 0, 0, 1], 9).into()
    }

    #[tokio::test]
    async fn it_is_heard_once_in_order_and_while_its_connection_lives() {
        let (port, heard) = port();
        let mut sealer = sealer(nowhere());
        let [first, second, third] = [b"one", b"two", b"six"].map(|text| sealer.seal(text));
        assert!(!second.windows(3).any(|w| w == b"two"), "it can be read on the way");
        assert_eq!(port.open(&mut second.clone()), Some(()));
        assert_eq!(port.open(&mut second.clone()), None, "replayed");
        assert_eq!(port.open(&mut first.clone()), None, "overtaken");
        drop(Listening(&port, NAME));
        assert_eq!(port.open(&mut third.clone()), None, "its connection is gone");
        assert_eq!(heard.try_iter().collect::<Vec<_>>(), [b"two".to_vec()]);
        assert!(!port.is_silent(&"polje".into(), Duration::from_secs(3_600)));
        assert!(port.is_silent(&"polje".into(), Duration::ZERO) && port.is_silent(&"uvala".into(), Duration::MAX));
    }

    /// Through real sockets, beside what belongs to QUIC.
    #[tokio::test]
    async fn it_shares_the_port_with_quic() {
        let ((to, heard), (from, _)) = (port(), port());
        let mut sealer = sealer(to.local_addr().unwrap());
        let quic = [0x43u8; 30];
        from.send(&mut sealer, b"a beat");
        UdpSocket::bind("127.0.0.1:0").unwrap().send_to(&quic, sealer.to).unwrap();
        from.send(&mut sealer, b"another");
        let (mut passed, mut said) = (Vec::new(), Vec::new());
        while passed.is_empty() || said.len() < 2 {
            let mut bytes = vec![0; 4096];
            let mut meta = [RecvMeta::default()];
            let receive = |cx: &mut Context<'_>| to.poll_recv(cx, &mut [IoSliceMut::new(&mut bytes)], &mut meta);
            std::future::poll_fn(receive).await.unwrap();
            passed.extend_from_slice(&bytes[..meta[0].len]);
            said.extend(heard.try_iter());
        }
        assert_eq!(passed, quic);
        assert_eq!(said, [b"a beat".to_vec(), b"another".to_vec()]);
    }

    /// The kernel joins datagrams of one sender to one buffer; all but the last have the same length.
    #[tokio::test]
    async fn it_is_taken_out_of_a_joined_buffer() {
        let (port, heard) = port();
        let sealed = sealer(nowhere()).seal(&[1; 27]);
        let (stride, quic) = (sealed.len(), [[0x41; 60], [0x42; 60]]);
        assert_eq!(stride, quic[0].len());
        let mut buffer = [&quic[0][..], &sealed, &quic[1], &[0x43; 9]].concat();
        let mut meta = RecvMeta { len: buffer.len(), stride, ..RecvMeta::default() };
        port.sift(&mut buffer, &mut meta);
        assert_eq!(buffer[..meta.len], [&quic[0][..], &quic[1], &[0x43; 9]].concat());
        assert_eq!(heard.try_iter().collect::<Vec<_>>(), [vec![1; 27]]);
    }

    proptest! {
        /// Whatever arrives, and whatever is changed on the way: it is not heard.
        #[test]
        fn forged_ones_are_passed_over(noise in prop::collection::vec(any::<u8>(), 0..90), at in 0usize..60, bit in 0u8..8) {
            let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
            let _inside = runtime.enter();
            let (port, heard) = port();
            let mut forged = sealer(nowhere()).seal(b"a beat of mine, in full");
            let at = at % forged.len();
            forged[at] ^= 1 << bit;
            for mut datagram in [noise, forged] {
                let length = datagram.len();
                port.sift(&mut datagram, &mut RecvMeta { len: length, stride: length, ..RecvMeta::default() });
            }
            prop_assert!(heard.try_recv().is_err());
        }
    }
}
