//! A gate, as it is told and as its node keeps it.

use crate::authority::GateLease;
use crate::ids::{Epoch, NodeId};
use crate::replica::GateReport;
use crate::time::Time;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::net::SocketAddr;

/// What a gate does.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum GateOrder {
    /// New connections wait. With `cut`, connections to the old primary are closed at once.
    Hold { cut: bool },
    Forward {
        epoch: Epoch,
        primary: NodeId,
        to: Target,
        /// Another gate that reaches the primary: clients go round by it while this one does not.
        round: Option<SocketAddr>,
    },
}

/// A server, as a gate is told of it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Target {
    pub at: SocketAddr,
    /// Its host was not heard from here for a moment: the gate tries whether it is reached.
    pub doubted: bool,
    /// Others have heard it since: it is the way to it that is broken, and what the gate finds counts.
    pub cut: bool,
}

/// What a read gate is told: to whom it may forward; none where that is not known (any more): then
/// new readers wait, and those who are there stay.
pub type ReadOrder = Option<BTreeMap<NodeId, Target>>;

pub(crate) struct Gate {
    pub lease: GateLease,
    pub order: GateOrder,
    pub report: GateReport,
    /// The gate that the coordinator says to go round by, and until when that counts.
    pub round: Option<(NodeId, Time)>,
}

impl Default for Gate {
    /// At a start it holds, and whatever came through it before is over.
    fn default() -> Self {
        Self {
            lease: GateLease::default(),
            order: GateOrder::Hold { cut: true },
            report: GateReport::default(),
            round: None,
        }
    }
}
