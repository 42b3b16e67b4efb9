//! A gate, as it is told and as its node keeps it.

use crate::authority::GateLease;
use crate::ids::{Epoch, NodeId};
use crate::replica::GateReport;
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
        to: SocketAddr,
    },
}

/// What a read gate is told: to whom it may forward; none where that is not known (any more): then
/// new readers wait, and those who are there stay.
pub type ReadOrder = Option<BTreeMap<NodeId, SocketAddr>>;

pub(crate) struct Gate {
    pub lease: GateLease,
    pub order: GateOrder,
    pub report: GateReport,
}

impl Default for Gate {
    /// At a start it holds, and whatever came through it before is over.
    fn default() -> Self {
        Self {
            lease: GateLease::default(),
            order: GateOrder::Hold { cut: true },
            report: GateReport::default(),
        }
    }
}
