//! What nodes say to each other, besides consensus.

use crate::address::Connection;
use crate::author::Token;
use crate::authority::{Claim, Lease};
use crate::consensus::Talk;
use crate::heads::Head;
use crate::health::Hears;
use crate::ids::{Epoch, Index, NodeId, Term, WorkloadId};
use crate::members::Members;
use crate::replica::{Parts, Report};
use crate::request::{Answer, Request};
use crate::time::Time;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::net::SocketAddr;

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub enum Message {
    /// Every node to every other, each heartbeat: I am here, this is my `number`th beat, and this
    /// is whom I hear.
    Beat {
        number: u64,
        hears: Hears,
        /// How far the primaries on this node are (F2), and those that were not heard lately; a few
        /// at a time.
        heads: Vec<(WorkloadId, Head)>,
        /// The entry from which the sender has who votes.
        #[serde(default)]
        votes: Index,
    },
    /// To a member whose beat has an older one: these vote, at these addresses, by the committed
    /// entry `at` (V7).
    Vouch {
        at: Index,
        voters: Vec<(NodeId, SocketAddr)>,
    },
    Talk(Talk),
    /// A node to the coordinator, each heartbeat and at once when something changed: what it sees,
    /// which leases it asks for. `sent` is its own clock: its lease counts from there.
    Checkin {
        number: u64,
        sent: Time,
        wants: Vec<(Claim, Epoch)>,
        says: Says,
        /// It says something that others act on, and the one before did not.
        news: bool,
    },
    /// The coordinator's answer (A2): leases of this duration, counted from `sent`. It has what the
    /// check-in of that number said.
    Grant {
        number: u64,
        sent: Time,
        term: Term,
        leases: Vec<Lease>,
        /// Of the workloads that have readers, and a read gate or a replica there: who serves them.
        #[serde(default)]
        readers: BTreeMap<WorkloadId, BTreeSet<NodeId>>,
        /// Where clients go round by, of gates there that do not reach their primary.
        #[serde(default)]
        round: BTreeMap<WorkloadId, NodeId>,
        /// As the check-in said.
        news: bool,
    },
    /// The holder of a floating address to all who may have to take it up: the connections over it,
    /// each time that they are looked at and are others, and again now and then.
    Connections {
        workload: WorkloadId,
        connections: Vec<Connection>,
    },
    /// A person's request, on its way to the coordinator, and the answer on its way back. It says no
    /// level: the coordinator looks the token up by itself. Without one the request counts as that
    /// of a person at the sender's host.
    Ask {
        number: u64,
        request: Request,
        token: Option<Token>,
    },
    Answer {
        number: u64,
        answer: Answer,
    },
}

/// What a check-in says of its node.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub enum Says {
    Full(Box<Report>),
    /// Since the check-in of that number, which the coordinator has, only these are different.
    Delta(u64, Box<Parts>),
}

/// Bytes that the members and heads of a beat may take, so that the whole fits a datagram of 1,200
/// bytes (RFC 9000, section 14).
const BEAT_ROOM: usize = 1_000;
/// What one head takes at most: a name of 40 letters, two numbers, and what they are called.
const HEAD_ROOM: usize = 90;

/// How many heads fit a beat that names these members.
pub fn heads_beside(members: &Members) -> usize {
    (BEAT_ROOM.saturating_sub(members.size()) / HEAD_ROOM).max(1)
}

impl Message {
    pub fn is_beat(&self) -> bool {
        matches!(self, Message::Beat { .. })
    }

    /// A vote, a request for one, an acknowledgement of entries: it must not leave before what it
    /// says is durable (A5, S2).
    pub fn says_what_is_durable(&self) -> bool {
        match self {
            Message::Talk(talk) => {
                matches!(
                    talk,
                    Talk::RequestVote { .. }
                        | Talk::RequestVoteReply { .. }
                        | Talk::AppendEntriesReply { .. }
                        | Talk::InstallSnapshotReply { .. }
                )
            }
            _ => false,
        }
    }

    /// Whether `later`, to the same node and waiting for the same write, says all that this
    /// acknowledgement does.
    pub fn is_replaced_by(&self, later: &Message) -> bool {
        match (self, later) {
            (
                Message::Talk(Talk::AppendEntriesReply {
                    term, news: false, ..
                }),
                Message::Talk(Talk::AppendEntriesReply { term: next, .. }),
            ) => term == next,
            _ => false,
        }
    }

    /// Stale as soon as the next one is there, which is a heartbeat later and says it again: it may
    /// be lost on its way.
    pub fn is_repeated(&self) -> bool {
        match self {
            Message::Beat { .. } => true,
            Message::Talk(
                Talk::AppendEntries { news, .. } | Talk::AppendEntriesReply { news, .. },
            ) => !news,
            Message::Checkin { news, .. } | Message::Grant { news, .. } => !news,
            _ => false,
        }
    }
}
