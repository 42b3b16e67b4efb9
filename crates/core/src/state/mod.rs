//! What the committed log builds. Applying is deterministic, and every command says which epoch it
//! is about: one that comes too late changes nothing.

mod acknowledged;
mod node;
mod operation;
mod workload;

pub use acknowledged::{Acknowledged, Acknowledgements};
pub use node::{Fenced, NodeState};
pub use operation::{LoggedOperation, Operations};
pub use workload::{Opened, Place, SyncSet, Tenure, WorkloadState};

use crate::command::Command;
use crate::ids::{Epoch, Index, NodeId, OperationId, WorkloadId};
use crate::operation::{Kind, Mode};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// Everything the log says, up to `applied`.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ClusterState {
    pub applied: Index,
    pub workloads: BTreeMap<WorkloadId, WorkloadState>,
    pub operations: Operations,
    pub nodes: BTreeMap<NodeId, NodeState>,
    #[serde(default)]
    pub acknowledged: Acknowledgements,
}

impl ClusterState {
    pub fn fenced(&self, node: &NodeId) -> Option<&Fenced> {
        self.nodes.get(node)?.fenced.as_ref()
    }

    pub fn workload(&self, id: &WorkloadId) -> &WorkloadState {
        static NEW: WorkloadState = WorkloadState {
            epoch: Epoch(0),
            tenure: Tenure::Vacant,
            opened: None,
            sync: SyncSet {
                epoch: Epoch(0),
                number: 0,
                sure: Vec::new(),
                asked: Vec::new(),
                unprotected: false,
            },
            standing: BTreeMap::new(),
            attempts: BTreeSet::new(),
            clean_end: None,
            operation: None,
            mode: Mode::Act,
            mode_set: None,
            place: Place {
                number: Epoch(0),
                holder: None,
                leaving: false,
            },
        };
        self.workloads.get(id).unwrap_or(&NEW)
    }

    /// Applies one committed entry; returns whether it changed anything (a late one does not).
    pub fn apply(&mut self, index: Index, command: &Command) -> bool {
        self.applied = index;
        match command {
            Command::Noop => true,
            Command::Cluster(act) => self.acknowledged.apply(act),
            Command::Node(id, act) => self.nodes.entry(id.clone()).or_default().apply(index, act),
            Command::Workload(id, act) => self.workloads.entry(id.clone()).or_default().apply(
                index,
                act,
                &mut self.operations,
            ),
        }
    }

    /// The running operation of a workload, with its id.
    pub fn running(&self, workload: &WorkloadId) -> Option<(OperationId, &LoggedOperation)> {
        let id = self.workload(workload).operation?;
        Some((id, self.operations.get(id)?))
    }

    pub fn running_kind(&self, workload: &WorkloadId) -> Option<Kind> {
        self.running(workload).map(|(_, o)| o.what.kind)
    }
}
