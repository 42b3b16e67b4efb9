//! Elements of nftables sets, said to the kernel directly: a renewal of the guard comes ten times a
//! second, and `nft` reads every table anew before each. Messages as in
//! `linux/netfilter/nf_tables.h`; one batch is one transaction.

use rtnetlink::sys::Socket;
use rtnetlink::sys::protocols::NETLINK_NETFILTER;
use std::io;
use std::net::IpAddr;
use std::time::Duration;

const BATCH_BEGIN: u16 = 0x10;
const BATCH_END: u16 = 0x11;
const NEW_ELEMENT: u16 = 12;
const DELETE_ELEMENT: u16 = 14;
const ERROR: u16 = 2;
/// The subsystem of nftables in nfnetlink.
const NFTABLES: u8 = 10;

const REQUEST: u16 = 0x1;
const ACK: u16 = 0x4;
const CREATE: u16 = 0x400;
const NESTED: u16 = 0x8000;

const LIST_TABLE: u16 = 1;
const LIST_SET: u16 = 2;
const LIST_ELEMENTS: u16 = 3;
const ELEMENT: u16 = 1;
const ELEMENT_KEY: u16 = 1;
const ELEMENT_TIMEOUT: u16 = 4;
const VALUE: u16 = 1;

/// The family of a table, in the kernel's numbers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Family {
    Inet = 1,
    Arp = 3,
}

/// A set of the table `karst` of a family.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Set(pub Family, pub &'static str);

/// One element of a set, comes or goes.
#[derive(Clone, Debug)]
pub struct Change {
    set: Set,
    key: Vec<u8>,
    what: What,
}

#[derive(Clone, Copy, Debug)]
enum What {
    Add(Option<Duration>),
    Delete,
}

/// What an element's key may be.
pub trait Key {
    fn bytes(&self) -> Vec<u8>;
}

impl Key for u16 {
    fn bytes(&self) -> Vec<u8> {
        self.to_be_bytes().to_vec()
    }
}

impl Key for IpAddr {
    fn bytes(&self) -> Vec<u8> {
        match self {
            IpAddr::V4(ip) => ip.octets().to_vec(),
            IpAddr::V6(ip) => ip.octets().to_vec(),
        }
    }
}

impl Change {
    /// There for good; nothing happens if it is.
    pub fn add(set: Set, key: &impl Key) -> Self {
        Self {
            set,
            key: key.bytes(),
            what: What::Add(None),
        }
    }

    /// Not there, whether it was or not: the kernel refuses to delete what is missing, so it is
    /// added first.
    pub fn remove(set: Set, key: &impl Key, timed: bool) -> [Self; 2] {
        let add = What::Add(timed.then_some(Duration::from_secs(1)));
        [add, What::Delete].map(|what| Self {
            set,
            key: key.bytes(),
            what,
        })
    }

    /// There for that long from now on. Adding what is there does not prolong it, so it goes first:
    /// in one transaction, in which no packet sees it missing.
    pub fn renew(set: Set, key: &impl Key, time: Duration) -> [Self; 3] {
        let add = What::Add(Some(time));
        [add, What::Delete, add].map(|what| Self {
            set,
            key: key.bytes(),
            what,
        })
    }

    fn message(&self, number: u32) -> Vec<u8> {
        let mut element = attribute(ELEMENT_KEY | NESTED, &attribute(VALUE, &self.key));
        let (kind, flags) = match self.what {
            What::Add(time) => {
                if let Some(time) = time {
                    let ms = u64::try_from(time.as_millis()).unwrap_or(u64::MAX).max(1);
                    element.extend(attribute(ELEMENT_TIMEOUT, &ms.to_be_bytes()));
                }
                (NEW_ELEMENT, REQUEST | ACK | CREATE)
            }
            What::Delete => (DELETE_ELEMENT, REQUEST | ACK),
        };
        let Set(family, name) = self.set;
        let mut body = attribute(LIST_TABLE, b"karst\0");
        body.extend(attribute(LIST_SET, format!("{name}\0").as_bytes()));
        body.extend(attribute(
            LIST_ELEMENTS | NESTED,
            &attribute(ELEMENT | NESTED, &element),
        ));
        message(
            u16::from(NFTABLES) << 8 | kind,
            flags,
            number,
            family as u8,
            0,
            &body,
        )
    }
}

/// Length and type, then the value, padded to four bytes.
fn attribute(kind: u16, value: &[u8]) -> Vec<u8> {
    let length = u16::try_from(4 + value.len()).expect("an attribute of the guard is short");
    let mut bytes = [length.to_ne_bytes(), kind.to_ne_bytes()].concat();
    bytes.extend(value);
    bytes.resize(bytes.len().next_multiple_of(4), 0);
    bytes
}

fn message(kind: u16, flags: u16, number: u32, family: u8, resource: u16, body: &[u8]) -> Vec<u8> {
    let length = u32::try_from(20 + body.len()).expect("a message of the guard is short");
    let mut bytes = length.to_ne_bytes().to_vec();
    bytes.extend(kind.to_ne_bytes());
    bytes.extend(flags.to_ne_bytes());
    bytes.extend(number.to_ne_bytes());
    bytes.extend(0_u32.to_ne_bytes());
    bytes.extend([family, 0]);
    bytes.extend(resource.to_be_bytes());
    bytes.extend(body);
    bytes
}

/// A connection to the kernel's nftables.
#[derive(Debug)]
pub struct Kernel {
    socket: Socket,
    number: u32,
}

impl Kernel {
    /// # Errors
    /// If the kernel has no netfilter.
    pub fn connect() -> io::Result<Self> {
        let mut socket = Socket::new(NETLINK_NETFILTER)?;
        socket.bind_auto()?;
        // Every answer is there when the request returns; waiting for one would be waiting for
        // ever.
        socket.set_non_blocking(true)?;
        Ok(Self { socket, number: 0 })
    }

    /// All of them or none; in force when this returns, which takes well under a millisecond.
    ///
    /// # Errors
    /// The kernel's refusal: not found if the table or set is missing, permission denied without
    /// the right to it.
    pub fn transact(&mut self, changes: &[Change]) -> io::Result<()> {
        let mut next = || {
            self.number = self.number.wrapping_add(1);
            self.number
        };
        let mut batch = message(BATCH_BEGIN, REQUEST, next(), 0, NFTABLES.into(), &[]);
        let first = next();
        let mut number = first;
        for change in changes {
            batch.extend(change.message(number));
            number = next();
        }
        batch.extend(message(BATCH_END, REQUEST, number, 0, NFTABLES.into(), &[]));
        self.socket.send(&batch, 0)?;
        self.answers(first..number)
    }

    /// One acknowledgement for each change, or the first refusal.
    fn answers(&self, numbers: std::ops::Range<u32>) -> io::Result<()> {
        let mut acknowledged = 0;
        while acknowledged < numbers.len() {
            let mut said = Vec::with_capacity(8192);
            self.socket.recv(&mut said, 0)?;
            let mut rest = said.as_slice();
            while rest.len() >= 20 {
                let length = u32::from_ne_bytes([rest[0], rest[1], rest[2], rest[3]]) as usize;
                let kind = u16::from_ne_bytes([rest[4], rest[5]]);
                let number = u32::from_ne_bytes([rest[8], rest[9], rest[10], rest[11]]);
                let code = i32::from_ne_bytes([rest[16], rest[17], rest[18], rest[19]]);
                // A refusal of the whole batch bears the number of its beginning. What an earlier
                // one left is passed over.
                if kind == ERROR
                    && (numbers.contains(&number) || number == numbers.start.wrapping_sub(1))
                {
                    if code != 0 {
                        return Err(io::Error::from_raw_os_error(-code));
                    }
                    acknowledged += 1;
                }
                rest = &rest[length.next_multiple_of(4).clamp(20, rest.len())..];
            }
        }
        Ok(())
    }
}
