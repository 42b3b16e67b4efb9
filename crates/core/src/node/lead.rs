//! A coordinator's own part: made when this node is elected, and gone when it steps down, so that
//! nothing of an earlier term is ever decided on.

use super::agenda::Agenda;
use super::devices::Devices;
use super::names::Names;
use super::questions::Asker;
use crate::authority::{Claim, Ledger};
use crate::ids::{Epoch, Index, NodeId, WorkloadId};
use crate::spec::Spec;
use crate::steward::outlook::Lasting;
use crate::steward::readers::Readers;
use crate::steward::{Heard, Notes};
use crate::time::Time;
use std::collections::{BTreeMap, VecDeque};

#[derive(Default)]
pub(super) struct Lead {
    /// The newest check-in of each node.
    pub reports: BTreeMap<NodeId, Heard>,
    /// What was granted.
    pub ledger: Ledger,
    /// What is remembered of each workload between two looks at it.
    pub notes: BTreeMap<WorkloadId, Notes>,
    /// How each workload stands for those outside, and since when.
    pub outlooks: BTreeMap<WorkloadId, Lasting>,
    /// Who serves each workload's readers.
    pub readers: BTreeMap<WorkloadId, Readers>,
    pub agenda: Agenda,
    pub devices: Devices,
    pub names: Names,
    /// Check-ins that a coordinator whose clock may stop has not answered yet (C4).
    pub unanswered: VecDeque<Waiting>,
    /// Who is answered when an entry is committed.
    pub undecided: BTreeMap<Index, Asker>,
    /// Acknowledged findings that are not there any more, and since when; and when to look again.
    pub gone: BTreeMap<String, Time>,
    pub findings_due: Time,
    /// Since when it has had the spec in force.
    pub shaped_at: Time,
    /// What others rest on was to change, and let other commands go first.
    pub ground_waits: bool,
}

/// A check-in that is to be answered once a majority has answered something later.
pub(super) struct Waiting {
    pub from: NodeId,
    pub number: u64,
    pub sent: Time,
    pub wants: Vec<(Claim, Epoch)>,
    pub news: bool,
    pub at: Time,
}

impl Lead {
    pub fn new(spec: &Spec) -> Self {
        Self {
            agenda: Agenda::new(spec),
            ..Self::default()
        }
    }

    /// What a node knows that is asked while it leads nobody: what it says of itself.
    pub fn alone(me: &NodeId, own: Heard) -> Self {
        Self {
            reports: [(me.clone(), own)].into(),
            ..Self::default()
        }
    }
}
