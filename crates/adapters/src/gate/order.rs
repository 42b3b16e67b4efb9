//! A gate's orders and its reports: the gate for writers forwards to one server, under an epoch, the
//! gate for readers to several.

use karst_core::gate::{GateOrder, ReadOrder, Target};
use karst_core::replica::{GateReport, ReadReport};
use karst_core::{Epoch, NodeId};
use std::collections::BTreeSet;
use std::net::SocketAddr;

/// An order to a gate.
pub trait Order: Clone + Send + Sync + 'static {
    /// To whom a client is forwarded.
    type To: Clone + Ord + Send + Sync + std::fmt::Debug;
    /// The gate's word about itself.
    type Report: Clone + PartialEq + Send;

    /// New clients wait, and those who are there stay.
    fn hold() -> Self;
    /// The servers that the next client may be forwarded to.
    fn all(&self) -> Vec<(Self::To, Target)>;
    /// Whether those who were forwarded there may stay.
    fn keeps(&self, to: &Self::To) -> bool;
    /// Another gate, for clients of a server that is not reached from here.
    fn round(&self) -> Option<SocketAddr>;
    fn report(&self, unreachable: &BTreeSet<Self::To>, clients: Clients) -> Self::Report;
}

/// How many clients a gate has.
#[derive(Clone, Copy, Debug)]
pub struct Clients {
    pub connections: u64,
    pub waiting: u64,
    pub refused: u64,
}

impl Order for GateOrder {
    type To = Epoch;
    type Report = GateReport;

    fn hold() -> Self {
        Self::Hold { cut: false }
    }

    fn all(&self) -> Vec<(Epoch, Target)> {
        match self {
            Self::Forward { epoch, to, .. } => vec![(*epoch, *to)],
            Self::Hold { .. } => Vec::new(),
        }
    }

    fn keeps(&self, of: &Epoch) -> bool {
        match self {
            Self::Hold { cut } => !cut,
            Self::Forward { epoch, .. } => epoch == of,
        }
    }

    fn round(&self) -> Option<SocketAddr> {
        match self {
            Self::Forward { round, .. } => *round,
            Self::Hold { .. } => None,
        }
    }

    fn report(&self, unreachable: &BTreeSet<Epoch>, clients: Clients) -> GateReport {
        let (forwarding, lost) = match self {
            Self::Forward { epoch, round, .. } => {
                let lost = unreachable.contains(epoch);
                ((!lost || round.is_some()).then_some(*epoch), lost)
            }
            Self::Hold { .. } => (None, false),
        };
        let Clients {
            connections,
            waiting,
            refused,
        } = clients;
        GateReport {
            listening: true,
            forwarding,
            unreachable: lost,
            connections,
            waiting,
            refused,
        }
    }
}

impl Order for ReadOrder {
    type To = NodeId;
    type Report = ReadReport;

    fn hold() -> Self {
        None
    }

    fn all(&self) -> Vec<(NodeId, Target)> {
        let known = self.iter().flatten();
        known.map(|(node, at)| (node.clone(), *at)).collect()
    }

    fn keeps(&self, node: &NodeId) -> bool {
        self.as_ref().is_none_or(|all| all.contains_key(node))
    }

    fn round(&self) -> Option<SocketAddr> {
        None
    }

    fn report(&self, unreachable: &BTreeSet<NodeId>, clients: Clients) -> ReadReport {
        let told = self.iter().flatten().map(|(node, _)| node);
        let (lost, to) = told.cloned().partition(|node| unreachable.contains(node));
        let Clients {
            connections,
            waiting,
            refused,
        } = clients;
        ReadReport {
            listening: true,
            to,
            unreachable: lost,
            connections,
            waiting,
            refused,
        }
    }
}
