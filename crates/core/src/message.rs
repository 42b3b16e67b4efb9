//! What nodes say to each other, besides consensus.

use crate::authority::Claim;
use crate::consensus::Talk;
use crate::health::Hearing;
use crate::ids::{Epoch, NodeId, Term, WorkloadId};
use crate::node::Flow;
use crate::replica::Report;
use crate::time::Time;
use serde::{Deserialize, Serialize};
use std::time::Duration;

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub enum Message {
    /// Every node to every other, each heartbeat: I am here, this is my `number`th beat, and this is whom I hear.
    Beat {
        number: u64,
        heard: Vec<(NodeId, Hearing)>,
    },
    Talk(Talk),
    /// A node to the coordinator, each heartbeat and at once when something changed: what it sees, which leases it
    /// asks for. `sent` is its own clock: its lease counts from there.
    Checkin {
        sent: Time,
        wants: Vec<(Claim, Epoch)>,
        report: Report,
        /// It says something else than the one before.
        news: bool,
    },
    /// The coordinator's answer (A2): leases of this duration, counted from `sent`.
    Grant {
        sent: Time,
        term: Term,
        leases: Vec<(Claim, Epoch, Duration)>,
    },
    /// The holder of a floating address to all who may have to take it up: the connections over it, each time that they are
    /// looked at and are others, and again now and then.
    Flows {
        workload: WorkloadId,
        flows: Vec<Flow>,
    },
    /// For a node whose link to the sender is broken (A4).
    Relay {
        from: NodeId,
        to: NodeId,
        inner: Box<Message>,
    },
    /// An operator's request, on its way to the coordinator, and the answer on its way back.
    Ask {
        number: u64,
        request: crate::node::Request,
    },
    Answer {
        number: u64,
        answer: crate::node::Answer,
    },
}

impl Message {
    /// Small and stale as soon as the next one is there: may be sent unreliably.
    pub fn is_beat(&self) -> bool {
        match self {
            Message::Beat { .. } => true,
            Message::Relay { inner, .. } => inner.is_beat(),
            _ => false,
        }
    }
}
