//! A floating address, as its hands see it, as it is reported, and as its node keeps it.

use crate::authority::Authority;
use crate::ids::Epoch;
use serde::{Deserialize, Serialize};
use std::net::{IpAddr, SocketAddr};

/// What the hands do about an address; `turn` grows with each order.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct AddressOrder {
    pub turn: u64,
    /// Under which number of its place it is held; none where it has to be gone.
    pub hold: Option<Epoch>,
}

/// A client's TCP connection over a floating address.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Connection {
    pub client: SocketAddr,
    /// The address and the port that the client dialled.
    pub here: SocketAddr,
}

/// An address as the hands see it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct AddressSeen {
    /// The last order that was carried out.
    pub turn: u64,
    pub held: bool,
    /// Those that are held: of a holder's own subnets.
    #[serde(default)]
    pub on: Vec<IpAddr>,
    /// Who else answers for it: a hardware address.
    pub conflict: Option<String>,
    pub trouble: Option<String>,
    /// The connections over it, in order, while it is held.
    pub connections: Vec<Connection>,
    /// Why they cannot be known.
    pub unlisted: Option<String>,
}

impl AddressSeen {
    /// What this node acts on.
    pub(crate) fn without_connections(&self) -> Self {
        Self {
            connections: Vec::new(),
            ..self.clone()
        }
    }
}

/// What a node says of an address in its check-in.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct AddressReport {
    pub held: bool,
    /// Those that are held.
    #[serde(default)]
    pub on: Vec<IpAddr>,
    pub conflict: Option<String>,
    /// Why it cannot be held here.
    pub trouble: Option<String>,
    /// Clients' connections over it; others were told which before.
    pub connections: usize,
    /// Why nobody knows which: these clients would not be told when it moves.
    pub unlisted: Option<String>,
    /// It is gone from here under this number, which is leaving: it does not come back under it.
    pub surrendered: Option<Epoch>,
}

#[derive(Debug, Default)]
pub(crate) struct Keeper {
    pub authority: Authority,
    pub seen: AddressSeen,
    /// The connections over it, as its last holder told them: whoever takes it up next has these
    /// clients look again.
    pub connections: Vec<Connection>,
    pub order: Option<AddressOrder>,
}

impl Keeper {
    pub fn new(authority: Authority) -> Self {
        Self {
            authority,
            ..Self::default()
        }
    }

    pub fn is_gone(&self) -> bool {
        self.order
            .is_some_and(|o| o.hold.is_none() && o.turn == self.seen.turn)
            && !self.seen.held
    }
}
